"""The load of every moment: whether the block fits its deadline, through the piece.

There is one load computation. "Now" and "with this plan" are two sessions that go through the same functions.
Costs are seconds per block; loads are fractions of the deadline (1.0 = the block just fits).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.bounds import most, spread
from ..block.schedule import chains
from .case import Case
from .prepared import Prepared

# So many moments are played at once when only the worst is looked for, whose bounds hold but for this share.
TOGETHER, ROUNDING = 32, 1e-9


class LoadMap(NamedTuple):
    """The load through the piece at one buffer size, M moments in all.

    `times` (M + 1, seconds) are the borders; `load`, `chain` and `spread` (M, fractions of the deadline) the finishing
    time, the longest chain, and the least that an even spread of all work could reach. `waking` (M) is the load of a
    moment's first block, in which what was asleep wakes up: the same as `load` where nothing does.
    """

    buffer: int
    threads: int
    deadline: float
    times: NDArray[np.float64]
    load: NDArray[np.float64]
    chain: NDArray[np.float64]
    spread: NDArray[np.float64]
    waking: NDArray[np.float64]

    @property
    def highest(self) -> float:
        """The load of the fullest moment."""
        return float(self.load.max())

    @property
    def worst(self) -> int:
        """The moment with the highest load; of equal ones the longest, then the first."""
        length = np.diff(self.times)
        fullest = np.flatnonzero(self.load == self.load.max())
        return int(fullest[np.argmax(length[fullest])])


def load_map(of: Case) -> LoadMap:
    """The load of every moment. Moments in which the same strips do the same are computed once."""
    moments, block = of.moments, of.deadline
    found = of.played(moments.distinct)
    even = spread(found.own_work, found.beside, of.threads, found.aside)
    load, chain, even = (part[moments.of] / block for part in (found.makespan, found.chain, even))
    waking = load.copy()
    wakes = waking_strips(of.prepared)
    moved = np.flatnonzero(wakes.any(axis=1))
    if len(moved):
        states = moments.states[moved]
        rows = of.rows(states) + wakes[moved] * waking_costs(of)
        first = of.played_rows(rows, of.beside(states), of.aside(states))
        waking[moved] = np.maximum(load[moved], first.makespan / block)
    return LoadMap(of.buffer, of.threads, block, moments.times, load, chain, even, waking)


def worst_load(of: Case) -> float:
    """The highest load of any moment: that of `load_map`, and nothing else of it."""
    return _longest(of, 0.0, np.inf) / of.deadline


def fits(of: Case, limit: float) -> bool:
    """Whether no moment's load is over a limit: whether `worst_load` is not, sooner found."""
    allowed = limit * of.deadline
    return _longest(of, allowed, allowed) <= allowed


def _longest(of: Case, least: float, enough: float) -> float:
    """What the longest block of any moment takes (seconds), or one that is above `enough`; `least` if none takes more.

    Moments that cannot reach what others take, or what is asked for, are not played.
    """
    kinds = of.moments.distinct
    rows, beside, aside = of.rows(kinds), of.beside(kinds), of.aside(kinds)
    if of.host.read_ahead or aside.any():
        return float(of.played_rows(rows, beside, aside).makespan.max())
    chain = chains(of.prepared.tasks, rows)
    longest = most(rows.sum(axis=1), beside.sum(axis=1), chain, of.threads) * (1 + ROUNDING)
    order, worst = np.argsort(-longest, kind="stable"), least
    for begin in range(0, len(order), TOGETHER):
        together = order[begin : begin + TOGETHER]
        if worst > enough or longest[together[0]] <= worst:
            break
        worst = max(worst, float(of.played_rows(rows[together], beside[together]).makespan.max()))
    return worst


def waking_strips(prepared: Prepared) -> NDArray[np.bool_]:
    """Which strips come back from suspension at the start of each moment (M, S)."""
    session, sounding = prepared.session, prepared.moments.sounding
    asleep = np.array([session.suspends(strip) for strip in session.strips], np.bool_)
    wakes = np.zeros_like(sounding)
    if asleep.any():
        wakes[1:] = sounding[1:] & ~sounding[:-1] & asleep
    return wakes


def waking_costs(of: Case) -> NDArray[np.float64]:
    """What the dearest of each strip's first blocks costs beyond a usual one (S, seconds); 0 where not measured."""
    uses = of.prepared.uses
    beyond = of.prepared.figures.waking(of.buffer)
    live = uses.live
    extra = np.bincount(uses.strip[live], beyond[uses.card[live]], minlength=len(of.session.strips))
    return np.asarray(extra, np.float64) * of.host.plugin_factor / of.machine.speed


def word(load: float, limit: float) -> str:
    """What a load means, in a word: "fits" up to the limit, "tight" up to the deadline, then "overload"."""
    if load > 1.0:
        return "overload"
    return "tight" if load > limit else "fits"


def worst_moments(of: LoadMap, count: int = 8) -> list[int]:
    """Up to `count` moments, worst first, no two nearer to each other than a fortieth of the piece."""
    length = np.diff(of.times)
    middles = (of.times[:-1] + of.times[1:]) / 2
    apart = (of.times[-1] - of.times[0]) / 40
    found = [of.worst]
    for moment in np.argsort(-of.load, kind="stable"):
        if len(found) >= count:
            break
        if length[moment] > 0 and all(abs(middles[moment] - middles[other]) >= apart for other in found):
            found.append(int(moment))
    return found[:count]


def hundredth(values: NDArray[np.float64]) -> float:
    """What one value in a hundred reaches: of a hundred the highest, of two thousand the twentieth."""
    ordered = np.sort(values)
    return float(ordered[len(ordered) - max(len(ordered) // 100, 1)]) if len(ordered) else 0.0
