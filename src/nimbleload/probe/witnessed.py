"""Runs of a plugin with a witness beside every block: what counts is what it took while nobody shared the core.

Where other machines or programs share the processor for minutes, no number of runs is free of them, and the least of
any few comes out dearer than it would have in another minute. Which blocks were, the witness tells (see
`native.witness`).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..native.witness import COLUMNS, at_full_clock, is_alone, least_units, longer, look
from .messages import Best
from .pace import MOST_ROUNDS, Pace

# So many of the blocks must have had the core to themselves in one run at least.
ENOUGH = 0.9
# More runs hardly change anything when so many of them, one after the other, have moved what came of those before (here
# the mean of the least of each block) by no more than such a share.
SETTLED, IN_A_ROW = 0.005, 2


class Runs(NamedTuple):
    """Runs of the same blocks: their `times` (R, B, ns), what of it is the plugin's `own` (B, ns), the least time of
    the known steps meanwhile (`clock`, seconds), and whether the computer was `quiet`: enough blocks had the core to
    themselves. If not, `shared` is how many times as long as at best the witness took in the others."""

    times: NDArray[np.int64]
    own: NDArray[np.int64]
    clock: float
    quiet: bool
    shared: float = 1.0


class Witnessed:
    """Makes such runs; `known` is what the core has been seen to do before."""

    def __init__(self, known: Best | None = None) -> None:
        self.pace = Pace(known.pace if known is not None else None)
        self._clock, self._units = look()
        if known is not None:
            self._units = min(self._units, known.units)
            self._clock = min(self._clock, known.clock or math.inf)

    @property
    def best(self) -> Best:
        """What the core has been seen to do at its best."""
        return Best(self.pace.best, self._units, self._clock)

    def runs(self, run: Callable[[NDArray[np.int64]], NDArray[np.int64]], blocks: int, wanted: int) -> Runs:
        """As many runs as wanted, or fewer if all but a few blocks had the core to themselves and more hardly change
        anything; up to three times as many until that is so, or if it is not to be had, until more hardly change
        anything. `run` makes one (ns per block) and fills what the witness told of it (blocks, COLUMNS, ns)."""
        times: list[NDArray[np.int64]] = []
        told: list[NDArray[np.int64]] = []
        clocks: list[float] = []
        leasts: list[float] = []
        least = np.full(blocks, np.iinfo(np.int64).max)
        good, most = 0, MOST_ROUNDS * wanted
        while len(times) < most:
            self.pace.wait()
            clock, units = look()
            clocks.append(clock)
            told.append(np.zeros((blocks, COLUMNS), np.int64))
            times.append(run(told[-1]))
            good += self.pace.is_good()
            self._clock, self._units = min(self._clock, clock), min(self._units, units, least_units(told[-1]))
            least = np.minimum(least, times[-1])
            leasts.append(float(least.mean()))
            are_enough, settled = len(times) >= wanted, has_settled(leasts, SETTLED)
            if not (are_enough or settled):
                continue
            alone = _alone(told, self._units)
            is_known = alone.any(axis=0).mean() >= ENOUGH
            in_vain = settled and known_after(float(alone.mean()), most) < ENOUGH
            if is_known or (are_enough and in_vain):
                break
        made = np.array(times)
        best = np.sort(np.argsort(made.sum(axis=1), kind="stable")[:wanted])
        known = float(alone.any(axis=0).mean())
        enough = known >= ENOUGH or good >= wanted
        shared = 1.0 if enough else 1 + (1 - known) * (longer(np.array(told), self._units, ~alone) - 1)
        return Runs(made[best], own_times(made, alone), min(clocks), bool(enough), shared)


def _alone(told: Sequence[NDArray[np.int64]], best: float) -> NDArray[np.bool_]:
    """Which blocks had the core to themselves, and its clock (R, B): before them, as the one before tells, and after
    them."""
    rows = np.array(told)
    after = is_alone(rows, best) & at_full_clock(rows)
    before = np.concatenate((np.ones_like(after[:, :1]), after[:, :-1]), axis=1)
    return after & before


def known_after(share: float, times: float) -> float:
    """Which share of all blocks is known after so many times, if each time it is another such share of them."""
    return 1 - (1 - share) ** times


def has_settled(so_far: Sequence[float], by: float) -> bool:
    """Whether the last ones of what came of more and more runs have moved by no more than such a share."""
    last = so_far[-IN_A_ROW - 1 :]
    return len(last) > IN_A_ROW and all(abs(now - before) <= by * before for before, now in pairwise(last))


def own_times(times: NDArray[np.int64], alone: NDArray[np.bool_]) -> NDArray[np.int64]:
    """What each block takes by itself (B, ns): the least of the runs (times: R, B, ns) in which it was `alone`.

    One that never was is the least of all its runs, less what the others lost by sharing as a rule, but no less than
    any other. If none ever was, the least of the runs is all there is.
    """
    most = np.iinfo(np.int64).max
    by_itself, shared = (np.where(each, times, most).min(axis=0) for each in (alone, ~alone))
    known = by_itself < most
    if not known.any():
        return shared
    both = known & (shared < most)
    lost = max(float(np.median(shared[both] / np.maximum(by_itself[both], 1))), 1.0) if both.any() else 1.0
    return np.where(known, by_itself, np.maximum(shared / lost, by_itself.min())).astype(np.int64)
