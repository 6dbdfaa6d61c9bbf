"""What is taken of an engine's cores from outside: by the system's count of what its threads ran."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, late_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import reasons, why_late
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


EVERY, USUAL, MORE = 100, 1_500_000, 2_700_000
# How much of what such a block takes more is taken from outside.
TAKEN = {"own": 0.0, "less": 0.3, "half": 0.52, "more": 0.8, "taken": 1.0}


def struck(by, usually=0.0, seed=0, readings=True, gives_way=False):
    """A host of two threads, of which the worker computes in each block, for longer in every so many: by turns (`by`)
    by itself, or since its core is taken away for a part of that. So much of all blocks is taken `usually`. What it has
    run is counted when it leaves its core, with some microseconds more, and read ten times a second. In longer blocks
    it may give way for an instant, too."""
    chance = np.random.default_rng(seed)
    leader, worker, gave, ran, free = [], [], [], [], 0
    for k in range(5000):
        at = max(1_000_000_000 + k * PERIOD, free)
        odd = by[k // EVERY % len(by)] if k % EVERY == EVERY - 1 else ""
        begin, end = at + 201_000, at + 201_000 + USUAL + (MORE if odd else 0)
        parts = [(begin, begin + 300_000), (begin + 301_000, end)] if odd and gives_way else [(begin, end)]
        gave += [len(worker)] * (len(parts) - 1)
        worker += parts
        own = round((1 - usually) * (USUAL + (MORE * (1 - TAKEN[odd]) if odd else 0)))
        ran += [300_000, own - 300_000] if len(parts) > 1 else [own]
        free = end + 10_000
        leader += [(at, at + 200_000), (end + 1_000, free)]
    ran = np.array(ran) + 1_500 + chance.integers(0, 500, len(ran))
    ends = np.array([end for _, end in worker])
    time = np.arange(1_000_000_000, int(ends[-1]), 100_000_000)
    time += chance.integers(0, 10_000_000, len(time))
    of = thread(2, worker, looks=[(at - 50_000, 1) for at in ends.tolist()], gave_way=gave)
    if readings:
        of = read(of, time, ran)
    return see(recording(thread(1, leader), of, files=("/a/Reed.so",)))


def read(of, time, ran):
    """A thread of which it was read at some times what it had run: what its stretches that were over came to."""
    counted = np.append(0, np.cumsum(ran))[np.searchsorted(of.switch_time[1::2], time, "right")]
    return of._replace(ready_time=time, ready_sum=np.zeros(len(time), np.int64), ready_ran=counted)


@pytest.mark.parametrize("usually", [0.0, 0.1])
@pytest.mark.parametrize("seed", range(4))
def test_in_which_blocks_a_core_was_taken_is_told_block_by_block(usually, seed):
    kinds = ["own", "taken", "less", "more"]
    of = struck(kinds, usually, seed)
    found = why_late(of)
    assert found.blocks == found.outside + found.longer == of.blocks.dropouts > 40
    late = np.flatnonzero(of.blocks.late)
    for k, kind in enumerate(kinds):
        only = np.isin(np.arange(len(of.blocks.late)), late[k :: len(kinds)])
        outside = reasons(of, only).late.outside / only.sum()
        # Where no reading is near that tells exactly what ran until then, as behind the last, it is not said.
        assert outside > 0.8 if kind in ("taken", "more") else outside == 0
    (said,) = late_words(of, {})
    assert f"{found.outside} had a core taken away by something that is no thread of this system" in said


@pytest.mark.parametrize("gives_way", [False, True])
def test_all_of_it_or_nothing(gives_way):
    """Between most of the readings a core is taken away. That a thread had to give way for an instant is no reason."""
    taken, own, none = (why_late(struck([by], 0.05, gives_way=gives_way)) for by in ("taken", "own", ""))
    assert taken.blocks - 2 <= taken.outside <= taken.blocks and taken.blocks > 40
    assert own.outside == 0 and (own.pushed if gives_way else own.longer) == own.blocks > 40
    assert none is None


def test_recordings_of_before_do_not_know_it():
    found = why_late(struck(["taken"], readings=False))
    assert found.outside == 0 and found.longer == found.blocks > 40


def test_what_is_read_of_a_thread_that_has_its_core_is_not_exact():
    """No core was taken away. It is read before each late block, and in the one behind it, of which nothing is counted
    yet."""
    of = struck(["own"]).recording
    own = of.threads[1]
    begin, end = own.switch_time[::2], own.switch_time[1::2]
    late = np.flatnonzero(end - begin > 2 * USUAL)[:-1]
    time = np.stack((begin[late] - 500_000, begin[late + 1] + 1_400_000), axis=1).ravel()
    found = why_late(see(of._replace(threads=(of.threads[0], read(own, time, end - begin)))))
    assert found.outside == 0 and found.longer == found.blocks > 40


def test_reading_takes_a_moment_itself():
    """A little more than a half, which may have run while it was read."""
    found = why_late(struck(["half"]))
    assert found.outside == 0 and found.longer == found.blocks > 40
