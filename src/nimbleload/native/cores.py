"""Which cores there are, and which of them are alike: threads of one real core, and cores that are slower than others.

Most processors of desktops and laptops have both. A plugin that is timed on a slow core, or while something of ours
runs on the other thread of its core, comes out dearer than it is.
"""

from __future__ import annotations

import functools
import os
from collections.abc import Mapping, Set
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

from .reading import number, numbers, text

ROOT = Path("/")
# Where the kernel lists those that are built to save power, on processors that have two or three kinds of cores.
SLOW_KINDS = ("cpu_atom", "cpu_lowpower")
# Cores of one kind may differ by a fifth in the highest clock that they are said to have, step by step; between two
# kinds there is no step that small.
STEP = 0.9


class Cores(NamedTuple):
    """Cores by number. `fast` and `slow` are one thread of each real core, the highest number first (the first core is
    where most interrupts go); `second` are the other threads of these, in the same order. `same` gives for each of all
    the threads of its real core, itself among them."""

    fast: tuple[int, ...]
    slow: tuple[int, ...]
    second: tuple[int, ...]
    same: Mapping[int, tuple[int, ...]]

    @property
    def order(self) -> tuple[int, ...]:
        """All, in the order in which they are worth most: a slow real core does more than another's second thread."""
        return self.fast + self.slow + self.second

    @property
    def real(self) -> int:
        """How many real ones there are."""
        return len(self.fast) + len(self.slow)

    def beside(self, core: int) -> tuple[int, ...]:
        """The other threads of the same real core."""
        return tuple(other for other in self.same[core] if other != core)

    def away(self, core: int) -> tuple[int, ...]:
        """One thread of each other real core."""
        return tuple(other for other in self.fast + self.slow if other not in self.same[core])


def present(root: Path = ROOT) -> frozenset[int]:
    """All cores that are on, whoever may use them."""
    listed = numbers(text(root / "sys/devices/system/cpu/online"))
    return frozenset(listed) or frozenset(os.sched_getaffinity(0))


def cores(root: Path = ROOT, allowed: Set[int] | None = None) -> Cores:
    """Those that this process may use, or that are `allowed`; as the kernel tells below a root folder.

    What it does not tell is taken for a real core, as fast as the others.
    """
    return _cores(root, frozenset(os.sched_getaffinity(0) if allowed is None else allowed))


@functools.cache
def _cores(root: Path, allowed: frozenset[int]) -> Cores:
    same = {core: tuple(sorted(allowed & siblings(root, core))) for core in allowed}
    first = sorted({min(threads) for threads in same.values()}, reverse=True)
    late = slow_ones(root, allowed)
    fast, slow = (tuple(core for core in first if (core in late) == is_slow) for is_slow in (False, True))
    return Cores(fast, slow, tuple(other for core in fast + slow for other in same[core] if other != core), same)


def siblings(root: Path, core: int) -> frozenset[int]:
    """The threads of the real core that this one is a thread of, itself among them."""
    listed = text(_folder(root, core) / "topology" / "thread_siblings_list")
    return frozenset(numbers(listed)) | {core}


def slow_ones(root: Path, among: Set[int]) -> frozenset[int]:
    """Those of some cores that are slower than others of them: none where all are."""
    listed = [text(root / "sys/devices" / kind / "cpus") for kind in SLOW_KINDS]
    found = frozenset(core for cores in listed for core in numbers(cores)) & among
    if not found:
        for told in ("cpu_capacity", "cpufreq/cpuinfo_max_freq"):
            most = {core: number(_folder(root, core) / told) or 0 for core in among}
            steps = sorted({each for each in most.values() if each > 0}, reverse=True)
            kind = next((less for more, less in pairwise(steps) if less < STEP * more), 0)
            found = frozenset(core for core, each in most.items() if 0 < each <= kind)
            if found:
                break
    return found if found < among else frozenset()


def _folder(root: Path, core: int) -> Path:
    return root / "sys/devices/system/cpu" / f"cpu{core}"
