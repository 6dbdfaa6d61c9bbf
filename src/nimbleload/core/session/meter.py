"""Bars: which one a beat lies in, and where it begins, under changes of the time signature.

Beats are quarter notes from the start of the piece. A bar of six eighths is three of them long. Where the time
signature changes a bar begins, whatever is left of the one before.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from .session import Meter, SessionError

# Beats that are computed from seconds lie a hair before the bar line that they are.
HAIR = 1e-9
BEATS, UNITS = (1, 99), (1, 2, 4, 8, 16, 32, 64)


def is_possible(beats: int, unit: int) -> bool:
    """Whether bars can have so many beats, each a `unit`th of a whole note."""
    return BEATS[0] <= beats <= BEATS[1] and unit in UNITS


def bar_number(beat: float, since: float, first: float, length: float) -> int:
    """Which bar a beat lies in: bars are so long (quarter notes) from the beat `since` on, which begins bar `first`."""
    return int(first) + math.floor((beat - since) / length + HAIR)


def bar_begin(number: float, since: float, first: float, length: float) -> float:
    """The beat that a bar begins with; see `bar_number`."""
    return since + (number - first) * length


class Bars(NamedTuple):
    """Bars of one kind: `beats` of them, each a `unit`th of a whole note, from the beat `since` on, which begins bar
    `first` (0: the first of the piece)."""

    since: float
    first: int
    beats: int
    unit: int

    @property
    def length(self) -> float:
        """How many quarter notes a bar is long."""
        return 4.0 * self.beats / self.unit

    def number(self, beat: float) -> int:
        """Which bar of the piece a beat lies in."""
        return bar_number(beat, self.since, self.first, self.length)

    def begins(self, beat: float) -> float:
        """The beat that the bar begins with in which another one lies."""
        return bar_begin(self.number(beat), self.since, self.first, self.length)


class BarMap:
    """The bars of a piece. SessionError on a time signature that is not possible."""

    def __init__(self, meters: Sequence[Meter]) -> None:
        self._kinds: list[Bars] = []
        for meter in sorted(meters, key=lambda each: each.beat):
            if not (is_possible(meter.beats, meter.unit) and math.isfinite(meter.beat)):
                raise SessionError(f"a time signature of {meter.beats}/{meter.unit} is not possible")
            if not self._kinds:
                # The first one holds before its place, too.
                self._kinds.append(Bars(0.0, 0, meter.beats, meter.unit))
            if meter.beat <= 0:
                self._kinds = [Bars(0.0, 0, meter.beats, meter.unit)]
                continue
            before = self._kinds[-1]
            bars = math.ceil((meter.beat - before.since) / before.length - HAIR)
            self._kinds.append(Bars(meter.beat, before.first + bars, meter.beats, meter.unit))
        self._kinds = self._kinds or [Bars(0.0, 0, 4, 4)]
        self._since = [each.since for each in self._kinds]

    def at(self, beat: float) -> Bars:
        """The kind of bars at a beat."""
        return self._kinds[max(bisect_right(self._since, beat + HAIR) - 1, 0)]

    def lines(self) -> Iterator[float]:
        """The beats that bars begin with, from the start of the piece on, without end."""
        for kind, end in zip(self._kinds, [*self._since[1:], math.inf], strict=True):
            count = 0
            while (beat := kind.since + count * kind.length) < end - HAIR:
                if beat >= 0:
                    yield beat
                count += 1
