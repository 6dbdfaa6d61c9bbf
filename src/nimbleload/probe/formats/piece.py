"""Where in a piece a plugin is, and how fast that goes: what hosts tell with every block."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...core.session.meter import Bars

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

    @property
    def address(self) -> int:
        return int(self.kept.ctypes.data)
