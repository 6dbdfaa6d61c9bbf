"""Hosts whose threads look again and again for work instead of sleeping: what they compute is known."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, part_words, table
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.busy_waiting import without_sleep
from nimbleload.core.watching.late import why_late
from nimbleload.core.watching.records import HOST, LIBRARY, WAITING
from nimbleload.core.watching.shares import computing, parts, shares
from tests.helpers.recordings import recording, thread

PERIOD, COUNT, BEGUN = 4_000_000, 300, 1_000_000_000
FILES = ("/plugins/Reed.so", "/plugins/Stone.so")
LOOK, LOOP, CODE = 50_000, 0x5000, 0x90000


def looked(blocks):
    """Looks at a thread that waits in a loop of the host's own, but for pieces of each block (owner, from, to; ns after
    its start); times and owners, and the places in the code."""
    looks, places = [], []
    for start, pieces in blocks:
        for time in range(start + LOOK // 2, start + PERIOD, LOOK):
            owner = next((own for own, begin, end in pieces if begin <= time - start < end), None)
            looks.append((time, HOST if owner is None else owner))
            places.append(LOOP + time % 3 * 8 if owner is None else CODE + len(places) * 64)
    return looks, places


def leader(busy, late=()):
    """The thread that begins blocks: awake for so long in each (ns), and for two periods and a half in some."""
    stretches, free = [], 0
    for k in range(COUNT):
        start = max(BEGUN + k * PERIOD, free)
        free = start + (2 * PERIOD + PERIOD // 2 if k in late else busy)
        if stretches and start == stretches[-1][1]:
            stretches[-1] = (stretches[-1][0], free)
        else:
            stretches.append((start, free))
    return stretches


def spinning(pieces, number=2, mark=False, **options):
    """A thread that is awake from the first to the last, and works in these pieces of each block."""
    looks, places = looked((BEGUN + k * PERIOD, pieces) for k in range(COUNT))
    if mark:
        looks = [(t, WAITING if place < CODE else own) for (t, own), place in zip(looks, places, strict=True)]
    return thread(number, [], looks=looks, places=places, weight=LOOK, **options)


WORK = [(1, 100_000, 900_000), (2, 900_000, 1_300_000)]


@pytest.mark.parametrize("mark", [False, True])
def test_a_worker_that_never_sleeps_is_the_engines_and_its_waiting_is_no_work(mark):
    seen = see(recording(thread(1, leader(1_400_000)), spinning(WORK, mark=mark), files=FILES, begun=BEGUN))
    assert seen.roles == ("engine", "engine") and seen.awake == (1,)
    assert seen.blocks.load == pytest.approx(0.35) and seen.blocks.dropouts == 0
    took = {share.owner: share.core for share in shares(seen)}
    assert took[1] == pytest.approx(0.2, rel=0.02) and took[2] == pytest.approx(0.1, rel=0.02)
    assert took[WAITING] == pytest.approx(0.7, rel=0.02)
    (engine,) = parts(seen)
    assert engine.core == pytest.approx(1.35, rel=0.02) and engine.waiting == pytest.approx(0.7, rel=0.02)
    assert computing(seen) == pytest.approx(0.65, rel=0.02)
    assert part_words(engine) == "Audio engine 135 % of one core (70 % of it busy waiting)"
    said = " ".join(findings(seen, table(seen, {}), [engine], {}))
    assert "1 thread of its engine never sleeps and takes 70 % of one core in busy waiting" in said
    assert "The system took the core" not in said


def test_the_system_takes_a_core_from_real_time_that_never_sleeps():
    worker = spinning(WORK)
    at = np.array([BEGUN + 90 * PERIOD, BEGUN + 90 * PERIOD + 49_000_000], np.int64)
    worker = worker._replace(switch_time=at, switch_kind=np.array([2, 0]), switch_core=np.array([1, 1]))
    of = recording(thread(1, leader(1_400_000)), worker, files=FILES, begun=BEGUN)
    runs = without_sleep(of, worker)
    assert runs.begin.tolist() == [BEGUN, at[1]] and runs.end.tolist() == [at[0], of.ended]
    assert runs.gave_way.tolist() == [True, False] and runs.core.tolist() == [1, 1]
    seen = see(of)
    # All that was computed meanwhile.
    assert np.flatnonzero(seen.blocks.pushed).tolist() == list(range(90, 103))
    said = " ".join(findings(seen, table(seen, {}), parts(seen), {}))
    assert "took the core from it 1 time, for 49.0 ms at most" in said


def test_what_looks_do_not_explain_of_a_thread_that_gives_way_for_ever_is_waiting():
    """It calls the system again and again, where nobody can look: a tenth of its waiting is met."""
    worker = spinning(WORK, mark=True)
    kept = (worker.look_owner > HOST) | (np.arange(len(worker.look_time)) % 10 == 0)
    fields = {name: getattr(worker, name)[kept] for name in ("look_time", "look_owner", "look_weight", "look_place")}
    seen = see(recording(thread(1, leader(1_400_000)), worker._replace(**fields), files=FILES, begun=BEGUN))
    (waiting,) = (share for share in shares(seen) if share.owner == WAITING)
    assert waiting.core == pytest.approx(0.7, rel=0.02) and waiting.low < waiting.core < waiting.high
    assert computing(seen) == pytest.approx(0.65, rel=0.02)


def sometimes_asleep(pieces, until):
    """A worker that is woken with the leader and goes to sleep so long after (ns)."""
    stretches = [(BEGUN + k * PERIOD + 20_000, BEGUN + k * PERIOD + until) for k in range(COUNT)]
    looks, places = looked((BEGUN + k * PERIOD, pieces) for k in range(COUNT))
    kept = [k for k, (time, _) in enumerate(looks) if (time - BEGUN) % PERIOD < until]
    return thread(2, stretches, looks=[looks[k] for k in kept], places=[places[k] for k in kept], weight=LOOK)


def test_waiting_for_more_before_it_sleeps_makes_no_block_longer():
    seen = see(recording(thread(1, leader(1_400_000)), sometimes_asleep(WORK, 2_600_000), files=FILES, begun=BEGUN))
    assert seen.roles == ("engine", "engine") and seen.awake == ()
    assert seen.blocks.load == pytest.approx(0.35)
    assert {share.owner: share.core for share in shares(seen)}[1] == pytest.approx(0.2, rel=0.02)
    (waiting,) = (share for share in shares(seen) if share.owner == WAITING)
    # From the end of the work on, and a little before it begins.
    assert waiting.core == pytest.approx(1_370_000 / PERIOD, rel=0.05)


def test_a_plugin_that_computes_on_when_the_leader_sleeps_does():
    """A host that computes one block while the device takes the one before."""
    pieces = [(1, 100_000, 2_000_000), (2, 2_000_000, 2_590_000)]
    seen = see(recording(thread(1, leader(200_000)), sometimes_asleep(pieces, 2_600_000), files=FILES, begun=BEGUN))
    assert seen.blocks.load == pytest.approx(0.65)
    assert WAITING not in {share.owner for share in shares(seen)}


def test_what_is_met_all_over_the_hosts_code_does_not_wait():
    """A worker that mixes after its plugins, when the leader is through."""
    pieces = [(1, 100_000, 900_000), (HOST, 900_000, 2_590_000)]
    seen = see(recording(thread(1, leader(1_000_000)), sometimes_asleep(pieces, 2_600_000), files=FILES, begun=BEGUN))
    assert seen.blocks.load == pytest.approx(0.65)
    assert WAITING not in {share.owner for share in shares(seen)}


@pytest.mark.parametrize("owner", [HOST, LIBRARY])
def test_a_thread_that_computes_no_plugins_is_not_told_to_wait(owner):
    """A window that draws in a small loop of its own, or another program's thread."""
    looks, places = looked((BEGUN + k * PERIOD, []) for k in range(COUNT))
    window = thread(2, [(BEGUN, BEGUN + COUNT * PERIOD)], looks=[(t, owner) for t, _ in looks], places=places)
    seen = see(recording(thread(1, leader(1_400_000)), window, files=FILES, begun=BEGUN))
    assert seen.roles == ("engine", "other") and seen.awake == ()
    assert WAITING not in {share.owner for share in shares(seen, None)}


def waits_itself(late, owner):
    """The leader works for 0.4 of each block and waits on for a tenth; in late ones somebody computes meanwhile, or
    nobody."""
    looks = []
    for k, start in ((k, begin) for k, (begin, _) in enumerate(leader(2_000_000, late))):
        length = leader(2_000_000, late)[k][1] - start
        looks += [(t, 1 if t - start < 1_600_000 else WAITING) for t in range(start + LOOK // 2, start + length, LOOK)]
    first = thread(1, leader(2_000_000, late), looks=looks, places=[CODE] * len(looks), weight=LOOK)
    stretches, worked = [], []
    for begin, end in leader(2_000_000, late):
        until = end - 10_000 if owner else begin + 800_000
        stretches.append((begin + 20_000, until))
        worked += [(t, 2) for t in range(begin + 30_000, until, LOOK)]
    second = thread(2, stretches, looks=worked, places=[CODE] * len(worked), weight=LOOK)
    return see(recording(first, second, files=FILES, begun=BEGUN))


def test_late_blocks_in_which_nobody_computes_have_waited_whoever_has_a_core():
    late = why_late(waits_itself(range(20, COUNT - 20, 25), False))
    assert late.waited > 0 and late.longer == 0


def test_a_late_block_is_made_so_by_whom_all_wait_for_and_not_by_waiting():
    late = why_late(waits_itself(range(20, COUNT - 20, 25), True))
    assert late.longer > 0 and late.waited == 0 and late.owner == 2
