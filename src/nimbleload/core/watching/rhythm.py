"""The cycle of a host: how long a block lasts, when each is due to begin, and which thread begins it.

Found from when threads wake up, and nothing else: only what a device or a timer wakes comes in equal steps, while what
those threads wake comes as soon as they are done.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
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
# So many of a step's pairs must be there over its double, too.
DOUBLED = 0.8
# Steps of up to so many times the same are allowed to differ by as much.
WIDER = 1.5
PAUSE = 20
# A thread keeps time if so many of the steps it should have made are there; of one that has woken so often fewer will
# do: chance makes fewer still, and a host that is late all the time begins only a third of its blocks by the device.
REGULAR, SEEN_LONG, REGULAR_LONG = 0.5, 300, 0.25
# Threads are of one cycle if theirs agree so far.
ALIKE = 0.02
WINDOW = 129
# A waking belongs to a tick if it comes so little before it, or after (share of the period).
EARLY = 0.1
# By so much of a period the time at which blocks are due follows wakings before and after it; after so many wakings out
# of step a host may have begun anew, with so many in step by another time, and that often at most.
DRIFT, PATIENCE, FEWEST, MOST_LOST = 0.002, 8, 16, 1000
SAMPLE = 400
# Wakings of the first so many cycles are tried, and so many at most; below so many ns all are equally even.
CYCLES_TRIED, MOST_TRIED, EVEN_NS = 4, 40, 3_000
MOST_STARTS = 4000
# A block is late if it ends so long after it was due (ns): how exactly that is known.
LATE_BY = 20_000
# A thread goes on so soon (ns) after the one that it has waited for; that goes to sleep so soon after it was through.
SOON, TAIL = 150_000, 50_000


class Beat(NamedTuple):
    """How regularly one thread wakes up: every `period` (ns), and in which share of the steps it did."""

    period: float
    share: float


class Rhythm(NamedTuple):
    """B blocks of a host, each `period` (ns) long: when they were due to begin (`tick`), and when they did (`start`).

    `start` is 0 where the leader did not wake for a block of its own: it was still busy with the one before, or waited
    for others that were. `leader` is the place of the thread that begins them. `beats` are those of all that might have
    (None: keeps no time), by their places.
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
    found: list[Beat] = []
    for width in EXACT if len(steps) else ():
        found.append(_beat(starts, steps, width))
        if found[-1].share >= EVEN:
            return found[-1]
    return max(found, key=lambda each: each.share, default=None)


def _beat(starts: Times, steps: Times, exact: int) -> Beat:
    """The same, where steps agree that differ by so many ns at most."""
    period, width = _smallest(steps, exact)
    among = _within(steps, period, width)
    for times in (1, 2, 4, 8):
        some = _within(steps, times * period, width)
        middle = (len(some) - 1) // 2, len(some) // 2
        period = float(some[list(middle)].mean()) / times if len(some) >= max(len(among) / 2, 1) else period
    # Where nothing is begun for long, the host stands still.
    pauses = np.diff(starts)
    wanted = float(pauses[pauses < PAUSE * period].sum()) / period
    return Beat(period, float(min(len(among) / max(wanted, 1), 1.0)))


def _smallest(steps: Times, exact: int) -> tuple[float, float]:
    """The smallest step that nearly as many have as any, and its double as well; and how far they may differ (ns).

    Long steps may differ by more than short ones. Where blocks are late, more of any length agree the more they may
    differ: a step is compared with longer ones by what it may differ itself, or its double would seem more frequent.
    From a block's beginning to the middle at which its workers are through is a step, too, but nothing has its double.
    """
    from .compiled import alike

    most, counted, number = 0, 0.0, np.zeros(len(steps), np.int64)
    widths, borders = _lengths(exact)
    places = np.searchsorted(steps, borders)
    for k in np.flatnonzero(places[:, 1] < places[:, 2]).tolist():
        first, begin, end, last = places[k].tolist()
        width, inside = widths[k], slice(begin, end)
        if last - first >= NEARLY * most:
            if width > counted:
                counted, number = width, alike(steps, int(width))
                most = int(number.max())
            found = inside.start + np.flatnonzero(number[inside] >= NEARLY * most)
            while len(found):
                # From the first that is so frequent to the best one beside it.
                near = slice(found[0], np.searchsorted(steps, steps[found[0]] + 2 * width, "right"))
                best = near.start + int(np.argmax(number[near]))
                doubled = _whole(2 * float(steps[best]) + np.array((-2 * width, 2 * width)))
                first, last = np.searchsorted(steps, doubled)
                if last - first >= DOUBLED * number[best]:
                    return float(steps[best]), width
                found = found[found >= near.stop]
    return float(steps[int(np.argmax(number))]), counted


@lru_cache(8)
def _lengths(exact: int) -> tuple[list[float], Times]:
    """Lengths from the shortest to the longest, each a little wider than the one before (K): by how much steps of each
    may differ (ns), and the borders (K, 4; ns) of those that may be alike, and of the length itself, in order."""
    widths, borders, low = [], [], float(SHORTEST)
    while low <= LONGEST:
        width = min(float(exact), 0.1 * low)
        widths.append(width)
        borders.append((low - width, low, WIDER * low, WIDER * low + width))
        low *= WIDER
    return widths, _whole(np.array(borders))


def _whole(of: NDArray[np.float64]) -> Times:
    """The whole numbers from these on: asked for by others, all steps would be made others first."""
    return np.ceil(of).astype(np.int64)


def _within(steps: Times, of: float, width: float) -> Times:
    """Those of some steps (ascending) that differ by so much at most."""
    first, last = np.searchsorted(steps, (int(np.ceil(of - width)), int(np.floor(of + width)) + 1))
    return steps[first:last]


def rhythm(of: list[Turns], may_lead: list[bool]) -> Rhythm | None:
    """The blocks of a host whose threads take these turns; None if none of those that may lead keeps time."""
    beats = {k: beat(turns.begin) for k, turns in enumerate(of) if may_lead[k]}
    regular = {k: found for k, found in beats.items() if found is not None and _keeps(found, of[k])}
    if not regular:
        return None
    most = max(regular, key=lambda k: (round(regular[k].share, 1), -_loose(of[k].begin, regular[k].period)))
    period = regular[most].period
    together = [k for k, found in regular.items() if abs(found.period / period - 1) < ALIKE]
    ticks, _, _ = _ticks(of[most], period)
    # Of all that wake in this cycle, the one that begins it is the first after the tick.
    leader = min(together, key=lambda k: (_phase(of[k].begin, ticks, period), k))
    tick, start, exact = _ticks(of[leader], period)
    return Rhythm(exact, leader, tick, start, beats) if len(tick) > 2 else None


def in_blocks(of: Turns, tick: NDArray[np.float64]) -> float:
    """In which share of the blocks that were due at these times (ns) a thread takes a turn."""
    if not len(of.begin):
        return 0.0
    return len(np.unique(np.searchsorted(tick, of.begin))) / len(tick)


def begun_anew(of: Rhythm, leader: Turns, others: Sequence[Turns]) -> Times:
    """When blocks did begin (as `start`), but for wakings that only seem to begin one late: the leader had waited for
    another thread, which ended while it slept, and had not woken in the block before as often as it does."""
    if not others:
        return of.start
    ends = np.sort(np.concatenate([turns.end for turns in others]))
    place = np.searchsorted(of.tick - EARLY * of.period, leader.begin, "right") - 1
    wakings = np.bincount(place[place >= 0], minlength=len(of.tick))
    begun = np.flatnonzero((wakings > 0) & (of.start > 0))
    usual = np.bincount(wakings[begun]).argmax() if len(begun) else 0
    seldom, begun = wakings[begun[:-1]] < usual, begun[1:]
    start = of.start[begun]
    slept = leader.end[np.searchsorted(leader.begin, start) - 1]
    until = np.searchsorted(ends, start, "right")
    # Whoever woke the leader for its last turn may go to sleep a little after it.
    has_ended = until > np.searchsorted(ends, slept + TAIL, "right")
    # It wakes as soon as that is through; later only where its core was taken away, and then by more than a little.
    late = start - of.tick[begun]
    at_once = until > np.searchsorted(ends, start - SOON)
    kept = of.start.copy()
    kept[begun[seldom & has_ended & (late > np.where(at_once, LATE_BY, EARLY * of.period))]] = 0
    return kept


def _keeps(found: Beat, of: Turns) -> bool:
    """Whether a thread keeps the time found of it."""
    return found.share >= (REGULAR if len(of.begin) < SEEN_LONG else REGULAR_LONG)


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


def _ticks(of: Turns, period: float) -> tuple[NDArray[np.float64], Times, float]:
    """When each block was due to begin, which waking of the thread began it (0: none), and how far apart they are (ns).

    A device's clock and this one drift apart, and a host begins anew after a dropout: due is what the earliest of the
    blocks around it were, since it began.
    """
    # Imported here: it would lengthen every start.
    from scipy.ndimage import percentile_filter

    starts = of.begin
    parts = _in_step(of, period)
    begun = starts[np.concatenate(parts)]
    number = np.concatenate(([0], np.cumsum(np.round(np.diff(begun) / period)))).astype(np.int64)
    exact = _slope(number, begun, parts, period)
    off = begun - begun[0] - number * exact
    each = np.split(off, np.cumsum([len(part) for part in parts])[:-1])
    due = np.concatenate([percentile_filter(x, 5, size=min(WINDOW, len(x) | 1), mode="nearest") for x in each])
    every = np.arange(number[-1] + 1)
    tick = begun[0] + every * exact + np.interp(every, number, due)
    # The first waking in each block begins it, however late.
    place = np.searchsorted(tick - EARLY * exact, starts, "right") - 1
    inside = (place >= 0) & (starts < tick[place] + (1 - EARLY) * exact)
    first, at = np.unique(place[inside], return_index=True)
    start = np.zeros(len(every), np.int64)
    start[first] = starts[inside][at]
    return tick, start, exact


def _slope(number: NDArray[np.int64], begun: Times, parts: list[Times], period: float) -> float:
    """How far apart blocks of these numbers are (ns): the line through those of the longest part, if there are some."""
    ends = np.cumsum([0] + [len(part) for part in parts])
    longest = int(np.argmax(np.diff(ends)))
    inside = slice(ends[longest], ends[longest + 1])
    if inside.stop - inside.start < 3:
        return period
    return float(np.polyfit(number[inside], begun[inside] - begun[0], 1)[0])


def _in_step(of: Turns, period: float) -> list[Times]:
    """The places of the wakings that begin blocks, in parts: a new one where the host began anew, out of step with
    what was before. One that is only late for long goes on in step."""
    starts = of.begin
    first = _first(of, period)
    parts: list[list[Times]] = [[]]
    at, due = first, float(starts[first])
    for _ in range(MOST_LOST):
        kept, due, reached = _follow(starts, at, due, period)
        parts[-1].append(kept)
        if reached >= len(starts):
            break
        anew = _first(of, period, int(kept[-1]) + 1 if len(kept) else at)
        some = starts[: reached + SAMPLE]
        old = _follow(some, reached, due, period)[0]
        new = _follow(some, anew, float(starts[anew]), period)[0]
        at = reached
        if len(new) >= FEWEST and len(new) > 2 * len(old):
            parts.append([])
            at, due = anew, float(starts[anew])
    found = [np.concatenate(each) for each in parts]
    return [each for each in found if len(each)]


def _follow(starts: Times, at: int, due: float, period: float) -> tuple[Times, float, int]:
    # Imported here: it would lengthen every start.
    from .compiled import in_step

    found: tuple[Times, float, int] = in_step(starts, at, due, period, EARLY, DRIFT, PATIENCE)
    return found


def _first(of: Turns, period: float, begin: int = 0) -> int:
    """The place of a waking that begins a block, near the start or so many wakings after it.

    Only what the device wakes comes in steps as even as the device's; what wakes in the middle of a block is as uneven
    as the work before it. Of wakings that are equally even the one after the longest sleep begins the block.
    """
    starts = of.begin[begin : begin + SAMPLE]
    slept = np.concatenate(([0], starts[1:] - of.end[begin : begin + len(starts) - 1]))
    tried = []
    for first in np.flatnonzero(starts < starts[0] + CYCLES_TRIED * period)[:MOST_TRIED]:
        kept, _, _ = _follow(starts, int(first), float(starts[first]), period)
        if len(kept) < 3:
            continue
        steps = np.diff(starts[kept]) / period
        uneven = float(np.median(np.abs(steps - np.round(steps)))) * period
        tried.append((len(kept), max(uneven, EVEN_NS), float(np.median(slept[kept])), int(first)))
    if not tried:
        return begin
    most = max(each[0] for each in tried)
    tried = [each for each in tried if each[0] >= NEARLY * most]
    evenest = min(each[1] for each in tried)
    best = max((each for each in tried if each[1] <= 2 * evenest), key=lambda each: (each[2], slept[each[3]]))[3]
    before = (starts[best] - starts[: best + 1]) / period
    return begin + int(np.flatnonzero(np.abs(before - np.round(before)) < EARLY / 5)[0])
