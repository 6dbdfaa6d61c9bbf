"""Where in a piece a sample lies, for what runs on the audio thread: compiled into what calls it. Not to be called from
elsewhere: each process would compile it then."""

from __future__ import annotations

from numba import njit

from ...core.session.meter import bar_begin, bar_number
from .piece import BAR_LENGTH, BARS_SINCE, FIRST_BAR
from .piece import beat_at as _beat_at

_number, _begin = njit(inline="always")(bar_number), njit(inline="always")(bar_begin)
beat_at = njit(inline="always")(_beat_at)


@njit(inline="always")
def bar_at(kept, beat):
    """Which bar of the piece a beat lies in."""
    return _number(beat, kept[BARS_SINCE], kept[FIRST_BAR], kept[BAR_LENGTH])


@njit(inline="always")
def bar_begins(kept, bar):
    """The beat that a bar begins with."""
    return _begin(bar, kept[BARS_SINCE], kept[FIRST_BAR], kept[BAR_LENGTH])
