"""Whether the cycle of a host has changed while it was watched: its user set another buffer size, or its server did."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .records import Times, Turns
from .rhythm import ALIKE, EVEN, beat

# So many wakings tell a cycle. It is looked for at so many places of a recording, evenly.
WAKINGS, PLACES = 48, 9
# So many periods of so many have not as many wakings as others.
ODD, ODD_OF = 2, 4
# One wakes so close to when it should (a share of the period).
NEAR = 0.05
NEARLY_ALL = 0.9


def changed(of: Sequence[Turns]) -> int | None:
    """When (ns) a thread began to keep another time than before, as far as any of these did so evenly before and after;
    the last time of all. None if none did. A host that is late for a while keeps none for so long."""
    found = (_changed(turns.begin) for turns in of)
    return max((time for time in found if time is not None), default=None)


def _changed(starts: Times) -> int | None:
    """When a thread that wakes at these times (ns, ascending) began to keep the time that it keeps at last."""
    if len(starts) < 2 * WAKINGS:
        return None
    last = len(starts) - WAKINGS
    now = _kept(starts, last)
    if not now:
        return None
    low = high = 0
    # From the end on: the last place at which it kept another one.
    for low in np.linspace(last, 0, PLACES).astype(int)[1:].tolist():
        then = _kept(starts, low)
        if then and not _is_alike(then, now) and not _is_late(starts, low if then > now else last, then, now):
            break
        high = low
    else:
        return None
    high = high or last
    # Between them it began; where it keeps none, some of these wakings are of one time, and some of the other.
    while high - low > 1:
        middle = (low + high) // 2
        if _is_alike(_kept(starts, middle), now):
            high = middle
        else:
            low = middle
    return _first(starts[high : high + WAKINGS], now)


def _is_late(starts: Times, place: int, one: float, other: float) -> bool:
    """Whether wakings from a place on that seem to keep the longer of two times keep the shorter one, but for those at
    which a block before was not through: then there are some at several of its steps."""
    short, long = sorted((one, other))
    times = round(long / short)
    if not _is_alike(times * short, long):
        return False
    steps = (starts[place : place + WAKINGS] - starts[place]) / short
    near = np.abs(steps - np.round(steps)) < NEAR
    taken = np.bincount(np.round(steps[near]).astype(int) % times, minlength=times)
    return bool(near.mean() > NEARLY_ALL and (taken > (1 - NEARLY_ALL) * len(steps)).sum() > 1)


def _first(starts: Times, period: float) -> int:
    """The first of these wakings from which on all keep this time (ns): some of the first may keep another one still.

    By how many there are in each period, with one in the middle as the beginning of one.
    """
    ticks = np.arange((starts[0] - starts[WAKINGS // 2]) // period, WAKINGS // 4) * period + starts[WAKINGS // 2]
    counts = np.diff(np.searchsorted(starts, ticks - 0.1 * period))
    near = np.searchsorted(starts, ticks[:-1] + NEAR * period) > np.searchsorted(starts, ticks[:-1] - NEAR * period)
    odd = (counts != np.bincount(counts[len(counts) // 2 :]).argmax()) | ~near
    # Being late leaves one or two of them without one; another time half of them, or all of them with several.
    often = np.flatnonzero(np.convolve(odd, np.ones(ODD_OF, int))[: len(odd)] >= ODD)
    first = int(often[-1]) + 1 if len(often) else 0
    return int(starts[min(np.searchsorted(starts, ticks[first] - 0.1 * period), len(starts) - 1)])


def _kept(starts: Times, place: int) -> float:
    """The time that it keeps from a place on (ns); 0 if it keeps none evenly."""
    found = beat(starts[place : place + WAKINGS])
    return found.period if found is not None and found.share >= EVEN else 0.0


def _is_alike(one: float, other: float) -> bool:
    return abs(one / other - 1) < ALIKE
