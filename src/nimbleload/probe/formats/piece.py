"""Where in a piece a plugin is, and how fast that goes: what hosts tell with every block."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

# A piece that is not said to be otherwise plays at so many beats a minute, so many to a bar.
TEMPO, BEATS_A_BAR = 120.0, 4.0
# What is kept of it (float64): the rate (Hz), the tempo from a sample of the piece on, that sample, and its beat.
RATE, PACE, SINCE, BEAT, PLACES = range(5)


@njit(inline="always")
def beat_at(kept, sample):
    """The beat of a sample of the piece."""
    return kept[BEAT] + (sample - kept[SINCE]) * (kept[PACE] / 60.0) / kept[RATE]


class Piece:
    """A piece at a rate (Hz), from its beginning on at TEMPO until it is said to be otherwise."""

    def __init__(self, rate: int) -> None:
        self.kept: NDArray[np.float64] = np.array([rate, TEMPO, 0.0, 0.0])

    def goes_on(self, sample: int, beat: float, tempo: float) -> None:
        """From a sample on, which has this beat, it goes at so many beats a minute."""
        self.kept[PACE:] = tempo, sample, beat

    def rewind(self) -> None:
        """Back to the beginning, at the tempo that it has now."""
        self.kept[SINCE:] = 0.0

    @property
    def address(self) -> int:
        return int(self.kept.ctypes.data)
