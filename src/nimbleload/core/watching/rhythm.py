"""The cycle of a host: how long a block lasts, when each is due to begin, and which thread begins it.

Found from when threads wake up, and nothing else: only what a device or a timer wakes comes in equal steps, while what
those threads wake comes as soon as they are done.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .records import Times, Turns

# Blocks last between these (ns): 16 samples at 192 kHz, 8192 at 32 kHz.
SHORTEST, LONGEST = 80_000, 260_000_000
LAGS = 12
# How exactly steps must agree (ns): well, and loosely; and how many of those that should be there then are.
EXACT = (60_000, 200_000, 600_000)
EVEN = 0.8
# A step is the cycle if so large a part of the most frequent one's pairs have it: its double has nearly as many, half
# of it, in a thread that wakes twice a block, half as many.
NEARLY = 0.7
PAUSE = 20
# A thread keeps time if so many of the steps it should have made are there.
REGULAR = 0.5
# Threads are of one cycle if theirs agree so far.
ALIKE = 0.02
WINDOW = 129
# A waking belongs to a tick if it comes so little before it, or after (share of the period).
EARLY = 0.1
SAMPLE = 400
# Wakings of the first so many cycles are tried, and so many at most; below so many ns all are equally even.
CYCLES_TRIED, MOST_TRIED, EVEN_NS = 4, 40, 3_000
MOST_STARTS = 4000


class Beat(NamedTuple):
    """How regularly one thread wakes up: every `period` (ns), and in which share of the steps it did."""

    period: float
    share: float


class Rhythm(NamedTuple):
    """B blocks of a host, each `period` (ns) long: when they were due to begin (`tick`), and when they did (`start`).

    `start` is 0 where the leader did not wake for a block of its own: it was still busy with the one before. `leader`
    is the place of the thread that begins them. `beats` are those of all that might have (None: keeps no time), by
    their places.
    """

    period: float
    leader: int
    tick: NDArray[np.float64]
    start: Times
    beats: dict[int, Beat | None]


def beat(starts: Times) -> Beat | None:
    """The cycle in which a thread wakes up (starts: ns, ascending); None if there is none.

    The smallest step that nearly as many pairs of wakings have between them as any; first among steps that agree well,
    then among those that do so loosely.
    """
    starts = starts[:MOST_STARTS]
    if len(starts) < 8:
        return None
    steps = np.sort(np.concatenate([starts[lag:] - starts[:-lag] for lag in range(1, min(LAGS, len(starts) - 1))]))
    steps = steps[(steps >= SHORTEST) & (steps <= LONGEST)]
    found = [_beat(starts, steps, width) for width in EXACT] if len(steps) else []
    return next((each for each in found if each.share >= EVEN), max(found, key=lambda each: each.share, default=None))


def _beat(starts: Times, steps: Times, exact: int) -> Beat:
    """The same, where steps agree that differ by so many ns at most."""
    width = np.minimum(exact, 0.1 * steps)
    alike = np.searchsorted(steps, steps + width, "right") - np.searchsorted(steps, steps - width, "left")
    first = int(np.argmax(alike >= NEARLY * alike.max()))
    # From the first that is nearly as frequent as any to the best one beside it.
    near = (steps >= steps[first]) & (steps <= steps[first] + 2 * width[first])
    period = float(steps[near][int(np.argmax(alike[near]))])
    among = steps[np.abs(steps - period) <= width[first]]
    for times in (1, 2, 4, 8):
        some = steps[np.abs(steps - times * period) <= width[first]]
        period = float(np.median(some)) / times if len(some) >= len(among) / 2 else period
    # Where nothing is begun for long, the host stands still.
    pauses = np.diff(starts)
    wanted = float(pauses[pauses < PAUSE * period].sum()) / period
    return Beat(period, float(min(len(among) / max(wanted, 1), 1.0)))


def rhythm(of: list[Turns], may_lead: list[bool]) -> Rhythm | None:
    """The blocks of a host whose threads take these turns; None if none of those that may lead keeps time."""
    beats = {k: beat(turns.begin) for k, turns in enumerate(of) if may_lead[k]}
    regular = {k: found for k, found in beats.items() if found is not None and found.share >= REGULAR}
    if not regular:
        return None
    most = max(regular, key=lambda k: (round(regular[k].share, 1), -_loose(of[k].begin, regular[k].period)))
    period = regular[most].period
    together = [k for k, found in regular.items() if abs(found.period / period - 1) < ALIKE]
    ticks, _ = _ticks(of[most], period)
    # Of all that wake in this cycle, the one that begins it is the first after the tick.
    leader = min(together, key=lambda k: (_phase(of[k].begin, ticks, period), k))
    tick, start = _ticks(of[leader], period)
    if len(tick) <= 2:
        return None
    exact = float(np.polyfit(np.flatnonzero(start), start[start > 0] - start[start > 0][0], 1)[0])
    return Rhythm(exact, leader, tick, start, beats)


def _loose(starts: Times, period: float) -> float:
    """How loosely wakings follow the cycle (ns): the median of how far steps are from whole ones."""
    steps = np.diff(starts) / period
    return float(np.median(np.abs(steps - np.maximum(np.round(steps), 1)))) * period


def _phase(starts: Times, ticks: NDArray[np.float64], period: float) -> float:
    """How long after a tick the thread usually wakes first (ns, −period / 2 … period / 2)."""
    near = np.clip(np.searchsorted(ticks, starts), 1, len(ticks) - 1)
    nearest = np.where(starts - ticks[near - 1] < ticks[near] - starts, near - 1, near)
    off = starts - ticks[nearest]
    firsts = np.full(len(ticks), np.inf)
    np.minimum.at(firsts, nearest, off)
    found = firsts[np.isfinite(firsts)]
    return float(np.median(found)) if len(found) else np.inf


def _ticks(of: Turns, period: float) -> tuple[NDArray[np.float64], Times]:
    """When each block was due to begin, and which waking of the thread began it (0: none).

    A device's clock and this one drift apart, and a host begins anew after a dropout: due is what the earliest of the
    blocks around it were.
    """
    # Imported here: both would lengthen every start.
    from scipy.ndimage import percentile_filter

    from .compiled import in_step

    starts = of.begin
    begun = starts[in_step(starts, _first(of, period), period, EARLY)]
    number = np.concatenate(([0], np.cumsum(np.round(np.diff(begun) / period)))).astype(np.int64)
    exact = float(np.polyfit(number, begun - begun[0], 1)[0]) if len(begun) > 2 else period
    off = begun - begun[0] - number * exact
    due = percentile_filter(off, 5, size=min(WINDOW, len(off) | 1), mode="nearest")
    every = np.arange(number[-1] + 1)
    tick = begun[0] + every * exact + np.interp(every, number, due)
    # The first waking in each block begins it, however late.
    place = np.searchsorted(tick - EARLY * exact, starts, "right") - 1
    inside = (place >= 0) & (starts < tick[place] + (1 - EARLY) * exact)
    first, at = np.unique(place[inside], return_index=True)
    start = np.zeros(len(every), np.int64)
    start[first] = starts[inside][at]
    return tick, start


def _first(of: Turns, period: float) -> int:
    """The place of a waking that begins a block, near the start.

    Only what the device wakes comes in steps as even as the device's; what wakes in the middle of a block is as uneven
    as the work before it. Of wakings that are equally even the one after the longest sleep begins the block.
    """
    from .compiled import in_step

    starts = of.begin[:SAMPLE]
    slept = np.concatenate(([0], starts[1:] - of.end[: len(starts) - 1]))
    tried = []
    for first in np.flatnonzero(starts < starts[0] + CYCLES_TRIED * period)[:MOST_TRIED]:
        kept = in_step(starts, first, period, EARLY)
        if len(kept) < 3:
            continue
        steps = np.diff(starts[kept]) / period
        uneven = float(np.median(np.abs(steps - np.round(steps)))) * period
        tried.append((len(kept), max(uneven, EVEN_NS), float(np.median(slept[kept])), int(first)))
    if not tried:
        return 0
    most = max(each[0] for each in tried)
    tried = [each for each in tried if each[0] >= NEARLY * most]
    evenest = min(each[1] for each in tried)
    best = max((each for each in tried if each[1] <= 2 * evenest), key=lambda each: (each[2], slept[each[3]]))[3]
    before = (starts[best] - starts[: best + 1]) / period
    return int(np.flatnonzero(np.abs(before - np.round(before)) < EARLY / 5)[0])
