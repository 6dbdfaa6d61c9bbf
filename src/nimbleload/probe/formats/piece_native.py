"""Where in a piece a sample lies, for what runs on the audio thread: compiled."""

from __future__ import annotations

from numba import njit

from ...core.session.meter import bar_begin, bar_number
from .piece import BAR_LENGTH, BARS_SINCE, BEAT, FIRST_BAR, PACE, RATE, SINCE

_number, _begin = njit(inline="always")(bar_number), njit(inline="always")(bar_begin)


@njit(inline="always")
def beat_at(kept, sample):
    """The beat of a sample of the piece."""
    return kept[BEAT] + (sample - kept[SINCE]) * (kept[PACE] / 60.0) / kept[RATE]


@njit(inline="always")
def bar_at(kept, beat):
    """Which bar of the piece a beat lies in."""
    return _number(beat, kept[BARS_SINCE], kept[FIRST_BAR], kept[BAR_LENGTH])


@njit(inline="always")
def bar_begins(kept, bar):
    """The beat that a bar begins with."""
    return _begin(bar, kept[BARS_SINCE], kept[FIRST_BAR], kept[BAR_LENGTH])
