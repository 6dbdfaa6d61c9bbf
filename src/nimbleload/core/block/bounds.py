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
# So many late and early cuts are told of a block at most.
LATE, EARLY = 6, 2


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
    """Tasks that must all be through some time before the block's end, or cannot begin before some time.

    The block takes at least the work of `tasks` (S, bool) / T, and the time `along` the tasks that must follow the last
    of them to end, or come before the first to begin, and the cost of `last`: with `last` ≥ 0 the task of that number
    comes after all others. `along` is what these take now; where less is left of the tasks `on` (S, bool) the time is
    shorter by that at most.
    """

    tasks: NDArray[np.bool_]
    along: float
    on: NDArray[np.bool_]
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


def cuts(graph: Graph, cost: Figures, threads: int) -> list[Cut]:
    """Late and early cuts of a graph whose tasks cost so much now (S, seconds): all with a tail, or a head, of at least
    so much; of each kind those that say most of the block as it is.

    The task that comes after all others is left out of the tails: its cost stands in the rows in full.
    """
    last = last_task(graph)
    others = np.ones(len(cost), np.bool_)
    if last >= 0:
        others[last] = False
    now = cost * others
    feeds, fed = np.repeat(np.arange(len(cost)), np.diff(graph.first)), graph.successors
    found = []
    for values, near, far, most in (
        (tails(graph, now), feeds, fed, LATE), (heads(graph, now), fed, feeds, EARLY)
    ):  # fmt: skip
        # From each task the way goes on to the one with the longest way from there.
        ways = np.full(len(cost), -1, np.int64)
        order = np.argsort((values + now)[far], kind="stable")
        ways[near[order]] = far[order]
        for level, inside in _telling(values, now, others, threads, most):
            edge = inside.copy()
            edge[near[inside[far]]] = False
            found.append(Cut(inside, level, _on(ways, edge) & (now > 0), last))
    return found


def _telling(
    values: Figures, cost: Figures, others: NDArray[np.bool_], threads: int, most: int
) -> list[tuple[float, NDArray[np.bool_]]]:
    """Levels above 0 of tails or heads, at most so many, with the tasks from there on: those of which so much and the
    work of these, evenly spread, come to most."""
    order = np.argsort(-values[others], kind="stable")
    levels, works = values[others][order], np.cumsum(cost[others][order])
    # Of tasks with the same one all count.
    ends = np.flatnonzero(np.append(levels[1:] < levels[:-1], True)) if len(levels) else np.zeros(0, np.int64)
    ends = ends[levels[ends] > 0]
    best = ends[np.argsort(-(levels[ends] + works[ends] / threads), kind="stable")[:most]]
    return [(float(level), others & (values >= level)) for level in levels[best]]


def _on(ways: NDArray[np.int64], begin: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The tasks (S, bool) that ways lead to from those where they begin (S, bool), one after the other."""
    found = np.zeros(len(ways), np.bool_)
    at = np.unique(ways[begin])
    while len(at := at[at >= 0]):
        found[at] = True
        at = np.unique(ways[at])
    return found
