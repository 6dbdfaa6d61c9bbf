"""The loops of the block computation, compiled. Imported by whoever calls them, and only then: the compiler takes half
a second to import, which the window does without.
"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(nogil=True, cache=True)
def longest_paths(cost, order, first, successors, remaining):  # type: ignore[no-untyped-def]
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
def many_paths(costs, order, first, successors, longest):  # type: ignore[no-untyped-def]
    """Fills `longest` (M) with the longest path through each block, a row of `costs` (M, S)."""
    remaining = np.empty(costs.shape[1])
    for m in range(costs.shape[0]):
        longest[m] = longest_paths(costs[m], order, first, successors, remaining)


@njit(nogil=True, cache=True)
def first_member(members):  # type: ignore[no-untyped-def]
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
def flip(members, number):  # type: ignore[no-untyped-def]
    """Puts a number into a set of 64-bit words, or takes it out if it is there."""
    members[number >> 6] ^= np.uint64(1) << np.uint64(number & 63)


@njit(nogil=True, cache=True)
def one_block(cost, order, first, successors, waits, goes_on, places, listed, cores, start, end, core, remaining):  # type: ignore[no-untyped-def]
    """Runs one block; fills start, end, core and remaining (S each) and returns (makespan, longest chain).

    Tasks are ranked once, by urgency or as they are listed, and those that are ready kept as a set of ranks: the next
    is the lowest one.
    """
    longest = longest_paths(cost, order, first, successors, remaining)
    by_rank = np.argsort(places) if listed else np.argsort(-remaining, kind="mergesort")
    rank = np.empty(len(cost), np.int64)
    rank[by_rank] = np.arange(len(cost))
    ready = np.zeros((len(cost) + 63) // 64, np.uint64)
    left = waits.copy()
    for task in range(len(cost)):
        if left[task] == 0:
            flip(ready, rank[task])
    on_core = np.full(cores, -1, np.int64)
    n_running = 0
    now = 0.0
    while True:
        while n_running < cores:
            next_rank = first_member(ready)
            if next_rank < 0:
                break
            flip(ready, next_rank)
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
                        flip(ready, rank[target])
                after = goes_on[done]
                if after >= 0 and left[after] == 0:
                    on_core[c] = after
                    start[after], end[after], core[after] = now, now + cost[after], c
                    n_running += 1


@njit(nogil=True, cache=True)
def many_blocks(costs, order, first, successors, waits, goes_on, places, listed, cores, makespan, longest):  # type: ignore[no-untyped-def]
    """Runs each row of `costs` (M, S) as one block; fills makespan and longest (M each)."""
    count = costs.shape[1]
    start, end, remaining = np.empty(count), np.empty(count), np.empty(count)
    core = np.empty(count, np.int32)
    for m in range(costs.shape[0]):
        makespan[m], longest[m] = one_block(
            costs[m], order, first, successors, waits, goes_on, places, listed, cores, start, end, core, remaining
        )


@njit(nogil=True, cache=True)
def links(first, successors, start, end, remaining, next_on_path, waited_for):  # type: ignore[no-untyped-def]
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


@njit(nogil=True, cache=True)
def heads(least, order, first, successors, found):  # type: ignore[no-untyped-def]
    """Fills `found` (S) with the longest path before each task."""
    for task in order:
        after = found[task] + least[task]
        for e in range(first[task], first[task + 1]):
            found[successors[e]] = max(found[successors[e]], after)
