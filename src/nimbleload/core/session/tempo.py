"""Musical time to seconds and back, under tempo changes and glides.

A glide changes the tempo in a straight line over beats, so a stretch takes 60/k · ln(end/start) seconds with k the
change of bpm per beat.
"""

from __future__ import annotations

import itertools
import math
from bisect import bisect_right
from collections.abc import Sequence

from .session import SessionError, TempoPoint


class TempoMap:
    """Converts quarter-note beats from the start of the piece to seconds. SessionError on an impossible tempo."""

    def __init__(self, points: Sequence[TempoPoint]) -> None:
        ordered = sorted(points, key=lambda p: p.beat) or [TempoPoint(0.0, 120.0)]
        for point in ordered:
            if not (math.isfinite(point.bpm) and point.bpm > 0 and math.isfinite(point.beat)):
                raise SessionError(f"a tempo of {point.bpm} beats a minute at beat {point.beat} is not possible")
        self.points = ordered
        self._beats = [point.beat for point in ordered]
        self._seconds = [0.0]
        for here, after in itertools.pairwise(ordered):
            self._seconds.append(self._seconds[-1] + _stretch(here, after, after.beat - here.beat))
        # The first tempo also holds before its point, and beat 0 is second 0.
        self._origin = ordered[0].beat * 60.0 / ordered[0].bpm

    def seconds(self, beat: float) -> float:
        """The second at which a beat falls; before the first point its tempo holds."""
        index = bisect_right(self._beats, beat) - 1
        if index < 0:
            return beat * 60.0 / self.points[0].bpm
        here = self.points[index]
        after = self.points[index + 1] if index + 1 < len(self.points) else None
        return self._origin + self._seconds[index] + _stretch(here, after, beat - here.beat)

    def beat(self, second: float) -> float:
        """The beat that falls on a second: the inverse of `seconds`."""
        index = bisect_right(self._seconds, second - self._origin) - 1
        if index < 0:
            return second * self.points[0].bpm / 60.0
        here = self.points[index]
        after = self.points[index + 1] if index + 1 < len(self.points) else None
        past = second - self._origin - self._seconds[index]
        if after is None or not here.ramp or after.beat == here.beat or after.bpm == here.bpm:
            return here.beat + past * here.bpm / 60.0
        slope = (after.bpm - here.bpm) / (after.beat - here.beat)
        return here.beat + here.bpm / slope * math.expm1(slope * past / 60.0)

    def pace(self, second: float) -> float:
        """How many beats a minute there are at a second."""
        index = max(bisect_right(self._seconds, second - self._origin) - 1, 0)
        here = self.points[index]
        after = self.points[index + 1] if index + 1 < len(self.points) else None
        beats = self.beat(second) - here.beat
        if beats <= 0 or after is None or not here.ramp or after.beat == here.beat:
            return here.bpm
        return here.bpm + (after.bpm - here.bpm) * beats / (after.beat - here.beat)


    def is_steady(self, first: float, last: float) -> bool:
        """Whether the tempo is the same from one second to a later one."""
        index, end = (bisect_right(self._seconds, each - self._origin) - 1 for each in (first, last))
        glides = index >= 0 and self.points[index].ramp and self.points[index] is not self.points[-1]
        return index == end and not glides


def _stretch(here: TempoPoint, after: TempoPoint | None, beats: float) -> float:
    """Seconds that `beats` beats take from point `here` on, on the way to point `after` (None: no more points)."""
    if after is None or not here.ramp or after.beat == here.beat or after.bpm == here.bpm:
        return beats * 60.0 / here.bpm
    slope = (after.bpm - here.bpm) / (after.beat - here.beat)
    return 60.0 / slope * math.log1p(slope * beats / here.bpm)
