"""What is taken of an engine's cores from outside: by the system's count of what its threads ran."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, late_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import why_late
from nimbleload.core.watching.outside import taken_outside
from nimbleload.core.watching.shares import parts
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 4_000_000


def seen(ran, other=-1.0, busy=(1_000_000,)):
    """A host of 400 blocks on one thread that ran for so long by the system's count (seconds), with a window beside."""
    window = thread(2, [(1_000_500_000, 1_900_000_000)], real_time=False)._replace(ran=other)
    return see(recording(thread(1, blocks(PERIOD, 400, list(busy)))._replace(ran=ran), window))


@pytest.mark.parametrize(
    ("ran", "wanted"), [(0.4, 0.0), (0.3, 0.25), (0.392, 0.02), (0.41, 0.0), (0.0, 1.0), (-1.0, None)]
)
def test_it_is_what_the_system_does_not_count(ran, wanted):
    assert taken_outside(seen(ran, 0.1)) == (None if wanted is None else pytest.approx(wanted, abs=1e-6))


def test_of_hardly_any_time_nothing_is_said():
    assert taken_outside(seen(0.01, busy=(200_000,))) is None


def test_it_is_told_where_it_matters():
    def said(ran):
        of = seen(ran)
        return " ".join(findings(of, [], parts(of), {}))

    assert "25 % of the time in which its engine had a core was taken away by something that is no" in said(0.3)
    assert "taken away" not in said(0.396) and "taken away" not in said(-1.0)


def test_since_a_later_time_it_is_not_known():
    of = seen(0.3).recording
    assert of.since(of.begun).threads[0].ran == 0.3
    assert of.since(of.begun + 1).threads[0].ran == -1.0


def test_where_all_took_longer_alike_it_says_by_whom_if_that_is_known():
    """One block in twenty takes three times as long, its two plugins alike."""
    stretches = blocks(PERIOD, 400, [1_000_000] * 19 + [4_400_000])
    looks = [
        (begin + k * 50_000, 1 if k < (end - begin) / 100_000 else 2)
        for begin, end in stretches for k in range((end - begin) // 50_000)
    ]  # fmt: skip
    host = thread(1, stretches, looks=looks, weight=50_000)
    own = sum(end - begin for begin, end in stretches) / 1e9
    for ran, words in ((own, "slowed down or taken away"), (0.9 * own, "cores were taken away meanwhile (see below)")):
        (said,) = late_words(see(recording(host._replace(ran=ran), files=("/a/Reed.so", "/a/Stone.so"))), {})
        assert words in said


EVERY, USUAL = 40, 1_500_000


def struck(by, usually=0.0, seed=0, readings=True):
    """A host of two threads, of which the worker computes in each block, for longer in every so many. By turns, as `by`
    says, that is its own work, or its core is `taken` for so long; a part of all blocks is taken `usually`. What it has
    run is counted when it leaves its core, with some microseconds more, and read ten times a second."""
    chance = np.random.default_rng(seed)
    leader, worker, ran = [], [], []
    for k in range(2000):
        tick = 1_000_000_000 + k * PERIOD
        odd = by[k // EVERY % len(by)] if k % EVERY == EVERY - 1 else ""
        took = USUAL + (4_000_000 if odd else 0)
        leader += [(tick, tick + 200_000), (tick + 202_000 + took, tick + 210_000 + took)]
        worker.append((tick + 201_000, tick + 201_000 + took))
        own = (1 - usually) * (took if odd == "own" else USUAL)
        ran.append(round(own) + 1_500 + int(chance.integers(0, 500)))
    end = np.array([at for _, at in worker])
    time = np.arange(1_000_000_000, int(end[-1]), 100_000_000) + chance.integers(0, 3_000_000)
    counted = np.append(0, np.cumsum(ran))[np.searchsorted(end, time, "right")]
    of = thread(2, worker, looks=[(at - 50_000, 1) for at in end.tolist()])
    if readings:
        of = of._replace(ready_time=time, ready_sum=np.zeros(len(time), np.int64), ready_ran=counted)
    return see(recording(thread(1, leader), of, files=("/a/Reed.so",)))


@pytest.mark.parametrize("usually", [0.0, 0.1])
@pytest.mark.parametrize("seed", range(4))
def test_in_which_blocks_a_core_was_taken_is_told_block_by_block(usually, seed):
    of = struck(["own", "taken", "taken"], usually, seed)
    found = why_late(of)
    assert found.blocks == found.outside + found.longer == of.blocks.dropouts > 40
    # Of the last there is no reading behind it.
    assert abs(found.outside - 2 * found.longer) <= 3
    (said,) = late_words(of, {})
    assert f"{found.outside} had a core taken away by something that is no thread of this system" in said


def test_all_of_it_or_nothing():
    """Between most of the readings a core is taken away."""
    taken, own, none = (why_late(struck([by], 0.05)) for by in ("taken", "own", ""))
    assert taken.blocks - 2 <= taken.outside <= taken.blocks and taken.blocks > 40
    assert own.outside == 0 and own.longer == own.blocks > 40
    assert none is None


def test_recordings_of_before_do_not_know_it():
    found = why_late(struck(["taken"], readings=False))
    assert found.outside == 0 and found.longer == found.blocks > 40


def test_what_is_read_of_a_thread_that_has_its_core_is_not_exact():
    """All readings fall into the late blocks: what they took is not counted yet, whether it is their own or not."""
    of = struck(["own"]).recording
    own = of.threads[1]
    late = np.flatnonzero(own.switch_time[1::2] - own.switch_time[::2] > 2 * USUAL)
    inside = own.switch_time[::2][late] + 3_000_000
    counted = np.cumsum(np.append(0, own.switch_time[1::2] - own.switch_time[::2]))[late]
    readings = {"ready_time": inside, "ready_sum": np.zeros(len(late), np.int64), "ready_ran": counted}
    found = why_late(see(of._replace(threads=(of.threads[0], own._replace(**readings)))))
    assert found.outside == 0 and found.longer == found.blocks > 40
