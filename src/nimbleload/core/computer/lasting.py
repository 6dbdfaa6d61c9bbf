"""How long a computer keeps its pace: the same work in every block, for minutes, and how much longer it takes then.

Processors may draw more power for half a minute than for an hour, and slow down when they are hot. What is measured in
a short while, and a ceiling as well, is from before that.
"""

from __future__ import annotations

from typing import Annotated

import msgspec
import numpy as np
from numpy.typing import NDArray

from .ceiling import BEST, Blocks, Ceiling

# The pace at first is the best of so many stretches, that in the end the median of so many.
FIRST, LAST = 3, 8
# What takes so many times as long is slower; less is chance.
SLOWER = 1.03
# It is level when the last so many stretches differ by no more than this from those before them; not before so long
# (seconds), and what has not become so long is not known.
LEVEL, DIFFERS, SHORTEST, KNOWN = 16, 0.02, 240.0, 60.0


class Stretch(msgspec.Struct, frozen=True):
    """Some seconds of it, until so many since it began (`until`): how many times longer than it was meant to the work
    took at its quickest (`pace`), how many of its blocks were late; at which `clock` the cores ran (Hz; 0: not told),
    and how often one of them was slowed down for heat (`hot`)."""

    until: float
    pace: Annotated[float, msgspec.Meta(gt=0)]
    blocks: int
    late: int
    real_time: bool
    clock: float = 0.0
    hot: int = 0


class Lasting(msgspec.Struct, frozen=True):
    """A load (share of the deadline at first) that was held in every block of `buffer` samples on so many threads, in
    stretches."""

    load: float
    buffer: int
    rate: int
    threads: int
    stretches: tuple[Stretch, ...] = ()

    @property
    def seconds(self) -> float:
        return self.stretches[-1].until if self.stretches else 0.0

    @property
    def is_known(self) -> bool:
        """Whether it lasted long enough to say anything."""
        return self.seconds >= KNOWN

    @property
    def is_level(self) -> bool:
        """Whether the pace has not changed any more for a while."""
        paces = self._paces()
        if self.seconds < SHORTEST or len(paces) < 2 * LEVEL:  # of long stretches it takes longer
            return False
        before, after = np.median(paces[-2 * LEVEL : -LEVEL]), np.median(paces[-LEVEL:])
        return bool(abs(after / before - 1) <= DIFFERS)

    @property
    def slower(self) -> float:
        """How many times longer the same work takes in the end than at first; 1 where that may be chance."""
        return self._last / self._first if self._last >= SLOWER * self._first else 1.0

    @property
    def since(self) -> float:
        """From when on (seconds) the pace was nearer to that in the end than to that at first; 0 if it was all the
        same."""
        if self.slower == 1.0:
            return 0.0
        quick = np.flatnonzero(self._paces() < (self._first + self._last) / 2)
        return self.stretches[int(quick[-1])].until if len(quick) else 0.0

    @property
    def clocks(self) -> tuple[float, float]:
        """At which clock the cores ran at first, and in the end (Hz); zeros where that is not told."""
        told = [each.clock for each in self.stretches]
        if not told or not all(told):
            return 0.0, 0.0
        return max(told[:FIRST]), float(np.median(told[-LAST:]))

    @property
    def hot(self) -> int:
        """How often a core was slowed down for heat."""
        return sum(each.hot for each in self.stretches)

    def _paces(self) -> NDArray[np.float64]:
        return np.array([each.pace for each in self.stretches] or [1.0])

    @property
    def times(self) -> list[float]:
        """How many times as long as at first the work took in each stretch."""
        return [] if not self.stretches else (self._paces() / self._first).tolist()

    @property
    def _first(self) -> float:
        return float(self._paces()[:FIRST].min())

    @property
    def _last(self) -> float:
        return float(np.median(self._paces()[-LAST:]))


def pace(seen: Blocks) -> float:
    """How many times longer than it was meant to the work takes on a thread at its quickest. Others who share the cores
    pause now and then; a lower clock does not."""
    return float(np.median(np.quantile(seen.quickest, BEST, axis=1)))


def held(found: Ceiling, lasting: Lasting | None) -> float:
    """Which load is held when the pace has fallen to what lasts, in loads that were measured before that."""
    return found.held / lasting.slower if lasting is not None else found.held


def is_over(of: Lasting, most: float) -> bool:
    """Whether there is nothing more to see, or it has gone on for so long (seconds)."""
    return of.is_level or of.seconds >= most


def longer(of: Lasting, stretch: Stretch) -> Lasting:
    """The same with one stretch more."""
    return msgspec.structs.replace(of, stretches=(*of.stretches, stretch))
