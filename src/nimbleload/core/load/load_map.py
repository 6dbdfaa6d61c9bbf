"""The load of every moment: whether the block fits its deadline, through the piece.

There is one load computation. "Now" and "with this plan" are two sessions that go through the same functions.
Costs are seconds per block; loads are fractions of the deadline (1.0 = the block just fits).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.play import Played, play
from ..session.computer import Machine, deadline, threads
from .costs import Costs, States, at_moments, beside_at, costs
from .prepared import Prepared


class LoadMap(NamedTuple):
    """The load through the piece at one buffer size, M moments in all.

    `times` (M + 1, seconds) are the borders; `load`, `chain` and `spread` (M, fractions of the deadline) the finishing
    time, the longest chain, and all work divided by the threads. `waking` (M) is the load of a moment's first block,
    in which what was asleep wakes up: the same as `load` where nothing does.
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
    def worst(self) -> int:
        """The moment with the highest load; of equal ones the longest, then the first."""
        length = np.diff(self.times)
        highest = np.flatnonzero(self.load == self.load.max())
        return int(highest[np.argmax(length[highest])])


class Rung(NamedTuple):
    """One buffer size of the ladder at one moment: loads as fractions, round trip in seconds.

    `live` is the load of the live thread alone, 0 where the host computes everything at one go.

    `word` is "fits", "tight" or "overload"; "not known" where no plugin has a figure, and the loads mean nothing.
    """

    buffer: int
    load: float
    chain: float
    spread: float
    round_trip: float
    word: str
    live: float = 0.0


def played(prepared: Prepared, machine: Machine, of: Costs, states: States) -> Played:
    """Plays blocks in which the strips are in these states, or sound or not (M, S)."""
    return played_rows(prepared, machine, at_moments(of, states), beside_at(of, states))


def played_rows(prepared: Prepared, machine: Machine, rows: NDArray[np.float64], beside: NDArray[np.float64]) -> Played:
    """Plays blocks in which the strips cost this much, and this much more beside others (M, S each, seconds)."""
    host = prepared.session.host
    return play(prepared.tasks, host, prepared.live, rows, beside, threads(host, machine))


def load_map(prepared: Prepared, machine: Machine, buffer: int, of: Costs | None = None) -> LoadMap:
    """The load of every moment at one buffer size. Moments in which the same strips sound are computed once.

    `of` are the costs at this size, where they are known already.
    """
    session, moments = prepared.session, prepared.moments
    limit = deadline(buffer, session.rate)
    cores = threads(session.host, machine)
    each = of or costs(prepared, machine, buffer)
    found = played(prepared, machine, each, moments.distinct)
    load, chain, spread = (part[moments.of] / limit for part in (found.makespan, found.chain, found.work / cores))
    waking = load.copy()
    wakes = waking_strips(prepared)
    moved = np.flatnonzero(wakes.any(axis=1))
    if len(moved):
        states = moments.states[moved]
        rows = at_moments(each, states) + wakes[moved] * waking_costs(prepared, machine, buffer)
        first = played_rows(prepared, machine, rows, beside_at(each, states))
        waking[moved] = np.maximum(load[moved], first.makespan / limit)
    return LoadMap(buffer, cores, limit, moments.times, load, chain, spread, waking)


def waking_strips(prepared: Prepared) -> NDArray[np.bool_]:
    """Which strips come back from suspension at the start of each moment (M, S)."""
    session, sounding = prepared.session, prepared.moments.sounding
    asleep = np.array([session.host.suspends or strip.suspended for strip in session.strips], np.bool_)
    wakes = np.zeros_like(sounding)
    if asleep.any():
        wakes[1:] = sounding[1:] & ~sounding[:-1] & asleep
    return wakes


def waking_costs(prepared: Prepared, machine: Machine, buffer: int) -> NDArray[np.float64]:
    """What the dearest of each strip's first blocks costs beyond a usual one (S, seconds); 0 where not measured."""
    uses, rate = prepared.uses, prepared.session.rate
    beyond = np.zeros(len(uses.keys))
    for k, key in enumerate(uses.keys):
        card = prepared.cards.get(key)
        first = card.cell(rate, buffer, "waking") if card is not None else None
        if card is not None and first is not None:
            beyond[k] = max(first.largest - card.cost(rate, buffer, "sounding").seconds, 0.0)
    factor = prepared.session.host.plugin_factor / machine.speed
    live = uses.live
    extra = np.bincount(uses.strip[live], beyond[uses.card[live]], minlength=len(prepared.session.strips))
    return np.asarray(extra, np.float64) * factor


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
