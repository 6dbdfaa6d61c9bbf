"""One block on T cores: which task runs where and when, and how low any spreading could bring it.

The tasks form a graph (`session.routing`). A task may start when all that feed it are done. Whenever a core is free and
tasks are ready, the one with the longest remaining path goes first (list scheduling by critical path: R. L. Graham,
"Bounds on Multiprocessing Timing Anomalies", 1969); or the one that is listed first, if the host goes by that. Tasks
are not interrupted; where one goes on in another (the later part of a cut strip) its core takes that next, if it
waits for nothing else. What ends at one instant is all released before anything starts at that instant; equal
priorities go by task number, free cores by core number.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..session.routing import Graph

# About a femtosecond: a power of two, so that seconds up to eight are exact in such steps.
STEP = 2.0**-50


class Block(NamedTuple):
    """One computed block of S tasks; times in seconds from the block's start.

    `start`, `end` (S, float64) and `core` (S, int32) place each task; `makespan` is the last end. `work` is the sum
    of all costs; `spread_bound` = work / threads; `chain_bound` the longest chain; `chain` its task numbers in order.
    `closing` are the tasks at the block's end that had to wait for each other, up to the one that ends last, and
    `remaining` (S, float64) is each task's longest path to the end of the block, its own cost included. A block
    that is computed in `parts` has a task for each part of each strip (see `graph.divided`).
    """

    start: NDArray[np.float64]
    end: NDArray[np.float64]
    core: NDArray[np.int32]
    makespan: float
    work: float
    threads: int
    spread_bound: float
    chain_bound: float
    chain: tuple[int, ...]
    closing: tuple[int, ...]
    remaining: NDArray[np.float64]
    parts: int = 1

    def strips(self, tasks: tuple[int, ...]) -> list[int]:
        """The strips of tasks, in order, each one once."""
        count = len(self.start) // self.parts
        return list(dict.fromkeys(task % count for task in tasks))

    @property
    def bound(self) -> float:
        """No spreading over the cores could end before this."""
        return max(self.spread_bound, self.chain_bound)


def in_steps(costs: NDArray[np.float64]) -> NDArray[np.float64]:
    """Costs (seconds) as whole numbers of STEPs. Sums of these are exact, whatever their order: what is equally urgent
    is so to the last digit, and goes by its number; what ends at one instant ends there."""
    return np.ascontiguousarray(np.rint(np.asarray(costs, np.float64) / STEP) * STEP)


def check_costs(costs: NDArray[np.float64], tasks: int, cores: int) -> None:
    """ValueError unless the last axis holds `tasks` finite, non-negative seconds and there is a core."""
    if costs.shape[-1] != tasks:
        raise ValueError(f"{costs.shape[-1]} costs for {tasks} tasks")
    if cores < 1:
        raise ValueError(f"a block needs at least one core, not {cores}")
    # NaN fails the first comparison, an infinity the second.
    if costs.size and not (costs.min() >= 0 and costs.max() < np.inf):
        raise ValueError("costs must be finite and not negative")


def schedule(graph: Graph, cost: NDArray[np.float64], cores: int) -> Block:
    """Computes one block: `cost` (S, float64, seconds) of each task on `cores` cores. ValueError on bad costs."""
    from . import compiled

    cost = np.asarray(cost, np.float64)
    count = len(graph.ids)
    check_costs(cost, count, cores)
    cost = in_steps(cost)
    start, end, remaining = np.zeros(count), np.zeros(count), np.zeros(count)
    core = np.zeros(count, np.int32)
    makespan, longest = compiled.one_block(
        cost, graph.order, graph.first, graph.successors, graph.waits, graph.goes_on, graph.places, graph.listed, cores,
        start, end, core, remaining,
    )  # fmt: skip
    work = float(cost.sum())
    next_on_path, waited_for = np.empty(count, np.int32), np.full(count, -1, np.int32)
    compiled.links(graph.first, graph.successors, start, end, remaining, next_on_path, waited_for)
    longest_chain = _follow(int(np.argmax(remaining)), next_on_path) if count else ()
    closing = _follow(int(np.argmax(end)), waited_for)[::-1] if count else ()
    return Block(
        start, end, core, float(makespan), work, cores, work / cores, float(longest), longest_chain, closing, remaining
    )  # fmt: skip


def remaining(graph: Graph, cost: NDArray[np.float64]) -> NDArray[np.float64]:
    """Each task's longest path to the end of the block (S, seconds), its own cost included."""
    from . import compiled

    found = np.zeros(len(graph.ids))
    compiled.longest_paths(np.ascontiguousarray(cost, np.float64), graph.order, graph.first, graph.successors, found)
    return found


def chains(graph: Graph, costs: NDArray[np.float64]) -> NDArray[np.float64]:
    """The longest chain (M, seconds) of each row of `costs` (M, S, float64, seconds). `graph` holds S tasks for each
    part of the block."""
    from . import compiled

    parts = len(graph.ids) // max(costs.shape[1], 1)
    longest = np.zeros(len(costs))
    compiled.many_paths(np.tile(costs / parts, parts), graph.order, graph.first, graph.successors, longest)
    return longest


def makespans(graph: Graph, costs: NDArray[np.float64], cores: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Finishing time and longest chain (M, float64, seconds) of each row of `costs` (M, S, float64, seconds)."""
    from . import compiled

    costs = np.asarray(costs, np.float64)
    check_costs(costs, len(graph.ids), cores)
    costs = in_steps(costs)
    makespan, longest = np.zeros(len(costs)), np.zeros(len(costs))
    compiled.many_blocks(
        costs, graph.order, graph.first, graph.successors, graph.waits, graph.goes_on, graph.places, graph.listed,
        cores, makespan, longest,
    )  # fmt: skip
    return makespan, longest


def _follow(task: int, links: NDArray[np.int32]) -> tuple[int, ...]:
    """The tasks from one along its links."""
    chain = [task]
    while (task := int(links[task])) >= 0:
        chain.append(task)
    return tuple(chain)
