"""Where in a piece a plugin is, and how fast that goes: what hosts tell with every block."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...core.session.meter import Bars, bar_begin, bar_number

# A piece that is not said to be otherwise plays at so many beats (quarter notes) a minute, so many to a bar.
TEMPO, BEATS_A_BAR, BEAT_UNIT = 120.0, 4, 4
# What is kept of it (float64): the rate (Hz), the tempo from a sample of the piece on, that sample, and its beat; the
# beat from which on bars are as they are, which bar begins there, and how many beats they are long.
RATE, PACE, SINCE, BEAT, BARS_SINCE, FIRST_BAR, BAR_LENGTH, PLACES = range(8)


class Place(NamedTuple):
    """Where in the piece a `sample` lies: its `beat`, the `tempo` from there on, and its kind of `bars`."""

    sample: int
    beat: float
    tempo: float
    bars: Bars


def beat_at(kept: NDArray[np.float64], sample: float) -> float:
    """The beat of a sample of the piece."""
    return kept[BEAT] + (sample - kept[SINCE]) * (kept[PACE] / 60.0) / kept[RATE]


class Piece:
    """A piece at a rate (Hz), from its beginning on at TEMPO until it is said to be otherwise."""

    def __init__(self, rate: int) -> None:
        self.kept: NDArray[np.float64] = np.array([rate, TEMPO, 0.0, 0.0, 0.0, 0.0, BEATS_A_BAR])

    def goes_on(self, place: Place) -> None:
        """From a place on, at its tempo and in its bars."""
        bars = place.bars
        self.kept[PACE:] = place.tempo, place.sample, place.beat, bars.since, bars.first, bars.length

    def rewind(self) -> None:
        """Back to the beginning, at the tempo and in the bars that it has now."""
        self.kept[[SINCE, BEAT, BARS_SINCE, FIRST_BAR]] = 0.0

    def beat_at(self, sample: float) -> float:
        """The beat of a sample of the piece. This and what follows are what `piece_native` computes on the audio
        thread; here nothing has to be compiled for it."""
        return float(beat_at(self.kept, sample))

    def bar_at(self, beat: float) -> int:
        """Which bar of the piece a beat lies in."""
        return bar_number(beat, *map(float, self.kept[BARS_SINCE:PLACES]))

    def bar_begins(self, bar: float) -> float:
        """The beat that a bar begins with."""
        return bar_begin(bar, *map(float, self.kept[BARS_SINCE:PLACES]))

    @property
    def address(self) -> int:
        return int(self.kept.ctypes.data)
