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
from numba import njit
from numpy.typing import NDArray

from ..session.routing import Graph

# About a femtosecond: a power of two, so that seconds up to eight are exact in such steps.
STEP = 2.0**-50


class Block(NamedTuple):
    """One computed block of S tasks; times in seconds from the block's start.

    `start`, `end` (S, float64) and `core` (S, int32) place each task; `makespan` is the last end. `work` is the sum
    of all costs; `spread_bound` = work / threads; `chain_bound` the longest chain; `chain` its task numbers in order.
    `closing` are the tasks at the block's end that had to wait for each other, up to the one that ends last. A block
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
    parts: int = 1

    def strips(self, tasks: tuple[int, ...]) -> list[int]:
        """The strips of tasks, in order, each one once."""
        count = len(self.start) // self.parts
        return list(dict.fromkeys(task % count for task in tasks))

    @property
    def bound(self) -> float:
        """No spreading over the cores could end before this."""
        return max(self.spread_bound, self.chain_bound)


@njit(nogil=True, cache=True)
def _remaining(cost, order, first, successors, remaining):  # type: ignore[no-untyped-def]
    """Fills `remaining` (S) with each task's longest path to the end of the block, its own cost included."""
    longest = 0.0
    for k in range(len(order) - 1, -1, -1):
        task = order[k]
        after = 0.0
        for e in range(first[task], first[task + 1]):
            after = max(after, remaining[successors[e]])
        remaining[task] = cost[task] + after
        longest = max(longest, remaining[task])
    return longest


@njit(nogil=True, cache=True)
def _first_member(members):  # type: ignore[no-untyped-def]
    """The smallest number in a set kept as 64-bit words; -1 if it is empty."""
    for w in range(len(members)):
        word = members[w]
        if word != 0:
            low = word & (~word + np.uint64(1))
            bit = 0
            for step in (32, 16, 8, 4, 2, 1):
                if low >> np.uint64(step) != 0:
                    low >>= np.uint64(step)
                    bit += step
            return 64 * w + bit
    return -1


@njit(nogil=True, cache=True)
def _flip(members, number):  # type: ignore[no-untyped-def]
    """Puts a number into a set of 64-bit words, or takes it out if it is there."""
    members[number >> 6] ^= np.uint64(1) << np.uint64(number & 63)


@njit(nogil=True, cache=True)
def _schedule(cost, order, first, successors, waits, goes_on, places, listed, cores, start, end, core, remaining):  # type: ignore[no-untyped-def]
    """Runs one block; fills start, end, core and remaining (S each) and returns (makespan, longest chain).

    Tasks are ranked once, by urgency or as they are listed, and those that are ready kept as a set of ranks: the next
    is the lowest one.
    """
    longest = _remaining(cost, order, first, successors, remaining)
    by_rank = np.argsort(places) if listed else np.argsort(-remaining, kind="mergesort")
    rank = np.empty(len(cost), np.int64)
    rank[by_rank] = np.arange(len(cost))
    ready = np.zeros((len(cost) + 63) // 64, np.uint64)
    left = waits.copy()
    for task in range(len(cost)):
        if left[task] == 0:
            _flip(ready, rank[task])
    on_core = np.full(cores, -1, np.int64)
    n_running = 0
    now = 0.0
    while True:
        while n_running < cores:
            next_rank = _first_member(ready)
            if next_rank < 0:
                break
            _flip(ready, next_rank)
            task = by_rank[next_rank]
            c = 0
            while on_core[c] >= 0:
                c += 1
            on_core[c] = task
            start[task], end[task], core[task] = now, now + cost[task], c
            n_running += 1
        if n_running == 0:
            return now, longest
        now = np.inf
        for c in range(cores):
            if on_core[c] >= 0 and end[on_core[c]] < now:
                now = end[on_core[c]]
        for c in range(cores):
            done = on_core[c]
            if done >= 0 and end[done] == now:
                on_core[c] = -1
                n_running -= 1
                for e in range(first[done], first[done + 1]):
                    target = successors[e]
                    left[target] -= 1
                    if left[target] == 0 and target != goes_on[done]:
                        _flip(ready, rank[target])
                after = goes_on[done]
                if after >= 0 and left[after] == 0:
                    on_core[c] = after
                    start[after], end[after], core[after] = now, now + cost[after], c
                    n_running += 1


@njit(nogil=True, cache=True)
def _makespans(costs, order, first, successors, waits, goes_on, places, listed, cores, makespan, longest):  # type: ignore[no-untyped-def]
    """Runs each row of `costs` (M, S) as one block; fills makespan and longest (M each)."""
    count = costs.shape[1]
    start, end, remaining = np.empty(count), np.empty(count), np.empty(count)
    core = np.empty(count, np.int32)
    for m in range(costs.shape[0]):
        makespan[m], longest[m] = _schedule(
            costs[m], order, first, successors, waits, goes_on, places, listed, cores, start, end, core, remaining
        )


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
    cost = np.asarray(cost, np.float64)
    count = len(graph.ids)
    check_costs(cost, count, cores)
    cost = in_steps(cost)
    start, end, remaining = np.zeros(count), np.zeros(count), np.zeros(count)
    core = np.zeros(count, np.int32)
    makespan, longest = _schedule(
        cost, graph.order, graph.first, graph.successors, graph.waits, graph.goes_on, graph.places, graph.listed, cores,
        start, end, core, remaining,
    )  # fmt: skip
    work = float(cost.sum())
    next_on_path, waited_for = np.empty(count, np.int32), np.full(count, -1, np.int32)
    _links(graph.first, graph.successors, start, end, remaining, next_on_path, waited_for)
    longest_chain = _follow(int(np.argmax(remaining)), next_on_path) if count else ()
    closing = _follow(int(np.argmax(end)), waited_for)[::-1] if count else ()
    return Block(
        start, end, core, float(makespan), work, cores, work / cores, float(longest), longest_chain, closing
    )  # fmt: skip


def remaining(graph: Graph, cost: NDArray[np.float64]) -> NDArray[np.float64]:
    """Each task's longest path to the end of the block (S, seconds), its own cost included."""
    found = np.zeros(len(graph.ids))
    _remaining(np.ascontiguousarray(cost, np.float64), graph.order, graph.first, graph.successors, found)
    return found


def makespans(graph: Graph, costs: NDArray[np.float64], cores: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Finishing time and longest chain (M, float64, seconds) of each row of `costs` (M, S, float64, seconds)."""
    costs = np.asarray(costs, np.float64)
    check_costs(costs, len(graph.ids), cores)
    costs = in_steps(costs)
    makespan, longest = np.zeros(len(costs)), np.zeros(len(costs))
    _makespans(
        costs, graph.order, graph.first, graph.successors, graph.waits, graph.goes_on, graph.places, graph.listed,
        cores, makespan, longest,
    )  # fmt: skip
    return makespan, longest


@njit(nogil=True, cache=True)
def _links(first, successors, start, end, remaining, next_on_path, waited_for):  # type: ignore[no-untyped-def]
    """For each task (S each): the one that follows on its longest path, and the one that it waited for; −1 for none.

    A task waited for one that feeds it and ended at the very instant in which the task began.
    """
    for task in range(len(start)):
        next_on_path[task] = -1
        longest = -1.0
        for e in range(first[task], first[task + 1]):
            target = successors[e]
            if remaining[target] > longest:
                next_on_path[task], longest = target, remaining[target]
            if end[task] == start[target] and end[task] > start[task] and waited_for[target] < 0:
                waited_for[target] = task


def _follow(task: int, links: NDArray[np.int32]) -> tuple[int, ...]:
    """The tasks from one along its links."""
    chain = [task]
    while (task := int(links[task])) >= 0:
        chain.append(task)
    return tuple(chain)
