"""Every bound of a block, once: how low any spreading over the cores could bring its finishing time.

Used by the verdict, the loads and the plan alike. W is all work, B what it takes more while all cores compute, T the
threads. With cores that slow each other the finishing time is m + (W − m)/(T − 1) · B/W, m being the time that the same
order takes without that (see `play.slowed`): for B ≤ (T − 1) · W it grows with m, so every bound of m bounds it.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..session.routing import Graph
from .schedule import remaining

Figures = NDArray[np.float64]


def spread(work: Figures, beside: Figures, threads: int, aside: Figures | float = 0.0) -> Figures:
    """The least finishing time of all work, evenly spread over the threads: min((W + B) / T, W) (any shape, seconds).

    With m ≥ W/T: m + (W − m)/(T − 1) · B/W ≥ (W + B)/T while B ≤ (T − 1) · W; beyond that it falls with m, and m ≤ W.
    With work A that plugins' own threads do `aside`, all of it must be through: no sooner than after (W + A) / T.
    """
    if threads == 1:
        return np.asarray(work + aside, np.float64)
    found: Figures = np.maximum(np.minimum((work + beside) / threads, work), (work + aside) / threads)
    return found


def slowed_bound(alone: Figures, work: Figures, beside: Figures, threads: int) -> Figures:
    """The least finishing time where without any slowing it would take `alone` at least (seconds; any shape).

    `alone` never exceeds the work.
    """
    if threads == 1:
        return np.asarray(alone, np.float64)
    share = np.divide(beside, work * (threads - 1), out=np.zeros_like(work), where=work > 0)
    found: Figures = np.where(share <= 1, alone + share * np.maximum(work - alone, 0.0), work)
    return found


def most(work: Figures, beside: Figures, chain: Figures, threads: int) -> Figures:
    """The most that blocks can take whose longest chains take `chain` (any shape, seconds).

    Without slowing W/T + (1 − 1/T) · c, in whatever order, as long as no thread waits while a task could begin: R. L.
    Graham, "Bounds on multiprocessing timing anomalies", 1969.
    """
    if threads == 1:
        return np.asarray(work, np.float64)
    least = work / threads
    alone = np.minimum(least + (1 - 1 / threads) * chain, work)
    share = np.divide(beside, work * (threads - 1), out=np.zeros_like(work), where=work > 0)
    # For B > (T − 1) · W it is the longer the more evenly the work is spread.
    longest = np.where(share <= 1, alone, least)
    found: Figures = longest + share * (work - longest)
    return found


class Cut(NamedTuple):
    """Tasks that must all be through by some time before the block's end, and cannot begin before another.

    `tasks` (S, bool) have only so much work in common threads: the block takes at least `head` + their work / T +
    `tail` seconds. With `last` ≥ 0 the task of that number comes after all of them, and its cost is no part of `tail`.
    """

    tasks: NDArray[np.bool_]
    head: float
    tail: float
    last: int


def last_task(graph: Graph) -> int:
    """The task that can only begin when all others are done, as a rule the main output; −1 if there is none."""
    count = len(graph.ids)
    if count < 2:
        return -1
    last = int(graph.order[-1])
    # Where that alone costs anything, what leads to it has that before it.
    alone = np.zeros(count)
    alone[last] = 1.0
    return last if bool((remaining(graph, alone) > 0).all()) else -1


def tails(graph: Graph, least: Figures) -> Figures:
    """The least time between each task's end and the block's (S, seconds), for the least cost of each task (S)."""
    return remaining(graph, least) - least


def heads(graph: Graph, least: Figures) -> Figures:
    """The least time before each task can begin (S, seconds), for the least cost of each task (S)."""
    from . import compiled

    found = np.zeros(len(graph.ids))
    compiled.heads(least, graph.order, graph.first, graph.successors, found)
    return found


def cuts(graph: Graph, least: Figures, most: int = 8) -> list[Cut]:
    """Late and early cuts of a graph: all tasks with a tail, or a head, of at least so much.

    `least` (S, seconds) is the least that each task can cost under whatever is decided. The task that comes after all
    others is left out of the tails: its cost stands in the rows in full.
    """
    last = last_task(graph)
    without = least.copy()
    if last >= 0:
        without[last] = 0.0
    tail, head = tails(graph, without), heads(graph, without)
    found = []
    others = np.ones(len(least), np.bool_)
    if last >= 0:
        others[last] = False
    for level in _levels(tail[others], most):
        found.append(Cut((tail >= level) & others, 0.0, level, last))
    for level in _levels(head[others], most):
        if level > 0:
            found.append(Cut((head >= level) & others, level, 0.0, last))
    return found


def _levels(values: Figures, most: int) -> list[float]:
    """Different values, at most so many, spread over their range."""
    levels = np.unique(values)
    if len(levels) > most:
        levels = levels[np.linspace(0, len(levels) - 1, most).round().astype(int)]
    return [float(level) for level in np.unique(levels)]


def cut_bound(cut: Cut, cost: Figures, threads: int) -> Figures:
    """The least time that a block takes by a cut, without any slowing, for rows of costs (…, S, seconds)."""
    inside = (cost * cut.tasks).sum(axis=-1) / threads
    own = cost[..., cut.last] if cut.last >= 0 else 0.0
    found: Figures = cut.head + inside + cut.tail + own
    return found
