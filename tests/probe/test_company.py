"""How much of a primed cache a block pushes out, with plugins that use a known stretch of memory and nothing else."""

from __future__ import annotations

import os

import numpy as np
import pytest
from numba import carray, cfunc, types

from nimbleload.probe import company
from nimbleload.probe.company import find_footprint, second_level_cache
from nimbleload.probe.pace import Pace
from nimbleload.probe.restraint import settle_on_core


@cfunc(types.int32(types.CPointer(types.int64), types.int64))
def _use(memory, words):
    """Uses every cache line of so many words."""
    found = carray(memory, (1 << 20,))
    for i in range(0, words, 8):
        found[i] += 1
    return 0


class Using:
    """A hosted plugin that uses so many bytes in a block, or every fourth one only."""

    call = _use.address

    def __init__(self, size: int) -> None:
        self._memory, self._words = np.zeros(1 << 20, np.int64), size // 8
        self.handle = self._memory.ctypes.data

    def argument(self, frames: int) -> int:
        return self._words


@pytest.mark.parametrize("share", [0.0, 0.125, 0.3, 0.6])
def test_a_known_stretch_of_memory_is_found(share):
    core = max(os.sched_getaffinity(0))
    cache = second_level_cache(core)
    settle_on_core(core)
    try:
        found = find_footprint(Using(int(share * cache)), Pace(), 64, cache)
    finally:
        os.sched_setaffinity(0, set(range(os.cpu_count() or 1)))
        os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))
    assert found / cache == pytest.approx(share, abs=0.06 + 0.25 * share)


@pytest.mark.parametrize(("quiet", "tries"), [(1.0, (24,)), (0.5, range(36, 66)), (0.1, (48,))])
def test_no_more_is_tried_than_tells_something(monkeypatch, quiet, tries):
    """Others take nothing from the cache in so many of the tries: if it is half, it goes on until enough had it alone;
    if it is hardly ever, the most would not do."""
    random, made = np.random.default_rng(3), []

    def walk(*given):
        # The first two walks of each try are behind nothing, and behind the plugin.
        made.append(random.random() >= quiet if len(made) % 8 == 0 else made[-1])
        return 100_000 + (20_000 + 400_000 * random.random() if made[-1] else 0)

    monkeypatch.setattr(company, "_walk_after", walk)
    find_footprint(Using(0), Pace(), 64, 1 << 20, 1)
    assert len(made) / 8 in tries


def test_others_that_slow_walks_down_are_not_the_plugins(monkeypatch):
    """Somebody else takes from the cache in two of three walks for ten tries, then rests for some."""
    random, cache = np.random.default_rng(1), 1 << 20

    def walk(memory, lines, clock, call, handle, argument, others):
        theirs = 400_000 * random.random() if random.random() < 2 / 3 else 0
        return 100_000 + 0.1 * (others.nbytes + (8 * argument if call else 0)) + theirs

    turns = iter(range(1 << 20))

    def stays(*given):
        busy = next(turns) // 90 % 3
        return walk(*given) if busy else 100_000 + 0.1 * (given[6].nbytes + (8 * given[5] if given[3] else 0))

    monkeypatch.setattr(company, "_walk_after", stays)
    for share in (0.0, 0.3):
        found = find_footprint(Using(int(share * cache)), Pace(), 64, cache) / cache
        assert found == pytest.approx(share, abs=0.1)
