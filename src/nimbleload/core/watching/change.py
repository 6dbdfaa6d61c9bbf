"""Whether the cycle of a host has changed while it was watched: its user set another buffer size, or its server did."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from .records import Times, Turns
from .rhythm import ALIKE, EVEN, Rhythm, beat

# So many wakings tell a cycle. It is looked for at so many places of a recording, evenly; so many times are tried.
WAKINGS, PLACES, TRIED = 48, 9, 3
# From fewer blocks on it is not told.
BLOCKS = 24
# So many periods of so many have not as many wakings as others.
ODD, ODD_OF = 2, 4
# As many wakings take as long if none takes longer by more than this.
STEADY = 1.03
# One wakes so close to when it should (a share of the period).
NEAR = 0.05
NEARLY_ALL = 0.9


class Changed(NamedTuple):
    """When (ns) the cycle became another one, and how long it was before (ns)."""

    time: int
    was: float


def changed(
    of: Sequence[Turns], may_lead: Sequence[bool], cycle: Callable[[list[Turns]], Rhythm | None]
) -> Changed | None:
    """The last change of a host's `cycle` (which finds it in the turns of all threads); None if there was none.

    A thread keeps a time evenly at last, and did not at some time before: then both parts must have a cycle, each its
    own, and wakings of the longer one must not be those that are left of the shorter one where blocks are late.
    """
    found = (_changed(turns.begin) for turns, may in zip(of, may_lead, strict=True) if may)
    for time in sorted({time for time in found if time is not None}, reverse=True)[:TRIED]:
        before, since = ([_part(turns, time, is_before) for turns in of] for is_before in (True, False))
        earlier = changed(before, may_lead, cycle)
        before = before if earlier is None else [_part(turns, earlier.time, False) for turns in before]
        then, now = cycle(before), cycle(since)
        if then is None or now is None or len(now.tick) < BLOCKS or _is_alike(then.period, now.period):
            continue
        long = then if then.period > now.period else now
        starts = (before if long is then else since)[long.leader].begin
        if not _is_late(starts, min(then.period, now.period), long.period):
            return Changed(time, then.period)
    return None


def _part(of: Turns, time: int, before: bool) -> Turns:
    """The turns that begin before a time (ns), or from it on."""
    chosen = (of.begin < time) == before
    return Turns(*(each[chosen] for each in of))


def _changed(starts: Times) -> int | None:
    """From when on a thread that wakes at these times (ns, ascending) keeps the time that it keeps evenly at last."""
    last = len(starts) - WAKINGS
    if last < 2 * WAKINGS:
        return None
    # Mostly nothing has changed, which is soon seen: as many wakings take as long everywhere.
    at = np.linspace(0, last, PLACES).astype(int)
    took = starts[at + WAKINGS - 1] - starts[at]
    if took.max() < STEADY * took.min():
        return None
    now = _kept(starts, last)
    if not now or not _is_alike(_kept(starts, last - WAKINGS), now):
        return None
    high, places = last - WAKINGS, np.linspace(last - WAKINGS, 0, PLACES).astype(int)[1:].tolist()
    # From the end on: the last place at which it kept another one, or none.
    for low in places:
        if not _is_alike(_kept(starts, low), now):
            break
        high = low
    else:
        return None
    # Between them it began; where it keeps none, some of these wakings are of one time, and some of the other.
    while high - low > 1:
        middle = (low + high) // 2
        if _is_alike(_kept(starts, middle), now):
            high = middle
        else:
            low = middle
    return _first(starts[high : high + WAKINGS], now)


def _is_late(starts: Times, short: float, long: float) -> bool:
    """Whether wakings that seem to keep the longer of two times keep the shorter one, but for those at which a block
    before was not through: then there are some at several of its steps."""
    times = round(long / short)
    if not _is_alike(times * short, long):
        return False
    steps = (starts[: 2 * WAKINGS] - starts[0]) / short
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
