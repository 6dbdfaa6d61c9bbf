"""Latency: the round trip through the device, delay compensation, and what to bypass to track in time.

Samples throughout, at the session's rate; seconds only where a name says so. A plugin's latency is the one that its
card reports at the rate and buffer size, else the one that the session tells; what is bypassed or frozen adds none.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..cards.card import Cards
from ..session.computer import Device
from ..session.plugins import CardKey, PluginUse
from ..session.routing import Graph
from ..session.session import Session
from ..session.strips import Strip


class Latencies(NamedTuple):
    """Delays of S strips in samples (int64): `own` of each chain, `out` when its signal is due at its output.

    `out` counts from the device's input, with every other path to the same summing point waited for; `longest` is the
    latest of all, and so what delay compensation costs. `way` (by strip id) is each armed strip's own way from input
    to the main output through its chain alone, if nothing waits for others. They are those at a `buffer` size;
    `vary` says that at other sizes there are others.
    """

    own: NDArray[np.int64]
    out: NDArray[np.int64]
    longest: int
    way: dict[str, int]
    buffer: int
    vary: bool


class Reported:
    """What plugins of a session report at a buffer size (samples), each card looked at once."""

    def __init__(self, session: Session, cards: Cards, buffer: int) -> None:
        self._rate, self._cards, self._buffer = session.rate, cards, buffer
        self._known: dict[CardKey, int | None] = {}
        self.vary = False

    def of(self, use: PluginUse) -> int:
        """What this one reports."""
        key = use.card_key()
        if key not in self._known:
            card = self._cards.get(key)
            self._known[key] = card.latency_at(self._rate, self._buffer) if card is not None else None
            self.vary |= card is not None and len(set(card.latencies(self._rate).values())) > 1
        return self._known[key] or use.latency


def latencies(session: Session, graph: Graph, cards: Cards, buffer: int) -> Latencies:
    """Delays at a buffer size (samples), by the longest path at each summing point."""
    reported = Reported(session, cards, buffer)
    own = np.array([sum(map(reported.of, strip.live_uses())) for strip in session.strips], np.int64)
    arrival = np.zeros(len(own), np.int64)
    out = np.zeros(len(own), np.int64)
    for task in graph.order:
        out[task] = arrival[task] + own[task]
        for target in graph.successors_of(task):
            arrival[target] = max(arrival[target], out[task])
    index = {strip.id: k for k, strip in enumerate(session.strips)}
    ways = {strip.id: _way(session, index, own, strip) for strip in session.strips if strip.armed and strip.enabled}
    return Latencies(own, out, int(out.max(initial=0)), ways, buffer, reported.vary)


def _way(session: Session, index: dict[str, int], own: NDArray[np.int64], strip: Strip) -> int:
    """A strip's own chain and those of the outputs after it, one after the other."""
    total, at = 0, strip
    for _ in session.strips:
        total += int(own[index[at.id]])
        if at.output is None:
            break
        at = session.strips[index[at.output]]
    return total


def round_trip(buffer: int, rate: int, device: Device, latency: int) -> float:
    """From input to output, in seconds: a buffer in, `periods` - 1 of them out, the safety buffer, and the session's
    own latency (samples)."""
    return (buffer * device.periods + device.safety + latency) / rate + device.converters


class Bypass(NamedTuple):
    """What to bypass to track under a limit: use ids, and the latency that is left (samples); `possible` if enough."""

    uses: tuple[str, ...]
    left: int
    possible: bool


def bypass_for(
    session: Session, graph: Graph, cards: Cards, buffer: int, limit: int, compensated: bool = True
) -> Bypass:  # fmt: skip
    """The fewest plugins to bypass so that no path (compensated), or no armed strip's way, exceeds `limit` samples at a
    `buffer` size (samples).

    Exact: a mixed-integer program over when each strip's signal is due. Of equally many, those with the least latency
    are chosen. Only plugins with a latency can be chosen; `possible` is false if even without all of them it is too
    long (a limit below zero).
    """
    from scipy.optimize import Bounds, LinearConstraint, milp  # imported here: it would lengthen every start

    chosen = _on_the_way(session, compensated)
    reported = Reported(session, cards, buffer)
    used = [
        (k, use, reported.of(use))
        for k in sorted(chosen)
        for use in session.strips[k].live_uses()
        if reported.of(use) > 0
    ]
    if limit < 0:
        return Bypass(tuple(use.id for _, use, _ in used), 0, False)
    fed = _fed(session, graph, chosen, compensated)
    feeders: dict[int, list[int]] = {}
    for feeder, targets in fed.items():
        for target in targets:
            feeders.setdefault(target, []).append(feeder)
    count, strips = len(used), len(session.strips)
    # Variables: bypass (0 or 1) of each plugin, then when each strip's signal is due at its output.
    cost = np.concatenate(([1 + latency * 1e-9 for _, _, latency in used], np.zeros(strips)))
    rows, least = [], []
    for task in sorted(chosen):
        own = np.zeros(count + strips)
        own[count + task] = 1
        for number, (strip, _, latency) in enumerate(used):
            if strip == task:
                own[number] = latency
        # A strip that nothing feeds must wait for its own plugins alone.
        for fed_from in [[feeder] for feeder in feeders.get(task, ())] or [[]]:
            row = own.copy()
            row[[count + feeder for feeder in fed_from]] = -1
            rows.append(row)
            least.append(own[:count].sum())
    if not rows:
        return Bypass((), 0, True)
    bounds = Bounds(np.zeros(count + strips), np.concatenate((np.ones(count), np.full(strips, float(limit)))))
    kinds = np.concatenate((np.ones(count), np.zeros(strips)))
    solved = milp(cost, constraints=LinearConstraint(np.array(rows), np.array(least, float)), bounds=bounds,
                  integrality=kinds)  # fmt: skip
    if solved.x is None:
        return Bypass(tuple(use.id for _, use, _ in used), 0, False)
    off = tuple(use.id for (_, use, _), x in zip(used, solved.x[:count], strict=True) if x > 0.5)
    return Bypass(off, _left(graph, fed, used, set(off)), True)


def _on_the_way(session: Session, compensated: bool) -> set[int]:
    """The strips that count: all of them when delays are compensated, else the armed ones and what they go through."""
    if compensated:
        return set(range(len(session.strips)))
    index = {strip.id: k for k, strip in enumerate(session.strips)}
    found: set[int] = set()
    for strip in session.strips:
        at: Strip | None = strip if strip.armed and strip.enabled else None
        while at is not None and index[at.id] not in found:
            found.add(index[at.id])
            at = session.strips[index[at.output]] if at.output is not None else None
    return found


def _fed(session: Session, graph: Graph, chosen: set[int], compensated: bool) -> dict[int, list[int]]:
    """Whom each of the strips that count feeds: all that it is sent to, or its output alone."""
    if compensated:
        return {task: graph.successors_of(task).tolist() for task in sorted(chosen)}
    index = {strip.id: k for k, strip in enumerate(session.strips)}
    outputs = {task: session.strips[task].output for task in sorted(chosen)}
    return {task: [index[output]] if output is not None else [] for task, output in outputs.items()}


def _left(graph: Graph, fed: dict[int, list[int]], used: list[tuple[int, PluginUse, int]], off: set[str]) -> int:
    """The longest path without the plugins that are off, in samples."""
    due = dict.fromkeys(fed, 0)
    for strip, use, latency in used:
        due[strip] += 0 if use.id in off else latency
    arrival = dict.fromkeys(fed, 0)
    for task in map(int, graph.order):
        if task in fed:
            due[task] += arrival[task]
            for target in fed[task]:
                arrival[target] = max(arrival[target], due[task])
    return max(due.values(), default=0)
