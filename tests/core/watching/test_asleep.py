"""Who sleeps in the engine's threads, in hosts of which it is known."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, late_words
from nimbleload.core.watching.asleep import sleepers
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import why_late
from nimbleload.core.watching.records import A_LOCK, A_PAGE, A_TIME, HOST
from nimbleload.core.watching.shares import parts
from tests.helpers.recordings import recording, thread

PERIOD, COUNT, EVERY, BEGUN = 5_000_000, 400, 20, 1_000_000_000
FILES = ("/plugins/Reed.so", "/plugins/Stone.so")


def napping(owner, threads=2, looks=4, why=A_TIME):
    """A worker that sleeps for 6 ms in the middle of every so manieth block, while the leader waits for it; looked at
    so often in each nap, and each block between its turns."""
    leader, worker, naps, waits, free = [], [], [], [], 0
    for k in range(COUNT):
        at = max(BEGUN + k * PERIOD, free)
        end = at + 900_000
        middle = [(at + 20_000, end - 100_000)]
        if k % EVERY == EVERY - 1:
            middle = [(at + 20_000, at + 300_000), (at + 6_300_000, at + 6_700_000)]
            naps += [(at + 400_000 + n * 1_000_000, owner, why) for n in range(looks)]
            waits += [(at + 450_000 + n * 1_000_000, HOST, A_LOCK) for n in range(looks)]
            end = at + 6_800_000
        worker += middle
        leader += [(at, at + 200_000), (middle[-1][1] + 20_000, end)]
        waits.append((end + 100_000, HOST, A_TIME))
        free = end
    # Between its turns it waits for the next.
    rests = [(begin - 1_000_000, HOST, A_LOCK) for begin, _ in worker[::2]]
    made = [thread(1, leader, asleep=sorted(waits)), thread(2, worker, asleep=sorted([*naps, *rests]))]
    return see(recording(*made[:threads], files=FILES, begun=BEGUN))


def test_the_plugin_that_sleeps_while_all_wait_is_named():
    of = napping(1)
    late = why_late(of)
    assert late.waited == COUNT // EVERY - 1 and late.sleeper.owner == 1 and late.sleeper.why == A_TIME
    (said,) = late_words(of, {"/plugins/Reed.so": "Reed"})
    assert "waited without computing, while Reed slept until a time of its own" in said
    assert "Stone slept until memory was read from the disk" in late_words(napping(2, why=A_PAGE), {})[0]


@pytest.mark.parametrize(("owner", "looks"), [(HOST, 4), (1, 0)])
def test_where_no_plugin_was_met_asleep_none_is_named(owner, looks):
    of = napping(owner, looks=looks)
    assert why_late(of).sleeper is None
    assert "waited without computing (a lock, a file, another program)" in late_words(of, {})[0]


def test_who_slept_seldom_while_the_leader_waited_is_not_why():
    of = napping(1)
    few = of.recording.threads[1]
    kept = np.arange(len(few.sleep_time)) % 3 == 0
    few = few._replace(**{name: getattr(few, name)[kept] for name in ("sleep_time", "sleep_owner", "sleep_why")})
    found = see(of.recording._replace(threads=(of.recording.threads[0], few)))
    assert why_late(found).sleeper is None and sleepers(found)[0].owner == 1


def test_for_how_long_a_plugin_sleeps_is_told():
    of = napping(1)
    (found,) = sleepers(of)
    assert (found.owner, found.why, found.looks) == (1, A_TIME, 4 * COUNT // EVERY)
    # Of all looks at the worker while it slept so many met it in the plugin.
    asleep = 1 - float((of.runs[1].end - of.runs[1].begin).sum()) / 1e9 / of.recording.seconds
    met = of.recording.threads[1].sleep_owner == 1
    assert 0.2 < met.mean() < 0.5 and found.part == pytest.approx(asleep * met.mean())
    said = " ".join(findings(of, [], parts(of), {}))
    assert f"Reed sleeps in the engine's threads, for about {100 * found.part:.0f} % of the time: until a time" in said


def test_a_few_looks_tell_nothing():
    of = napping(1)
    few = of.recording.threads[1]
    few = few._replace(**{name: getattr(few, name)[:2] for name in ("sleep_time", "sleep_owner", "sleep_why")})
    assert sleepers(see(of.recording._replace(threads=(of.recording.threads[0], few)))) == []
