"""The block computation once more, as slow and plain as possible: one event after the other, lists instead of heaps."""

from __future__ import annotations

from itertools import permutations


def remaining(cost: list[float], fed: list[list[int]], task: int) -> float:
    """The longest path from a task to the end of the block, by walking all of them."""
    return cost[task] + max((remaining(cost, fed, target) for target in fed[task]), default=0.0)


def simulate(cost: list[float], fed: list[list[int]], cores: int, urgency: list[float] | None = None):
    """(start, end, core) of each task by list scheduling; the most urgent ready task goes first."""
    count = len(cost)
    urgency = urgency or [remaining(cost, fed, task) for task in range(count)]
    feeders = [[s for s in range(count) if task in fed[s]] for task in range(count)]
    start: list[float | None] = [None] * count
    end: list[float | None] = [None] * count
    core = [-1] * count
    now = 0.0
    while True:
        finished = {t for t in range(count) if end[t] is not None and end[t] <= now}
        busy = {core[t] for t in range(count) if start[t] is not None and t not in finished}
        waiting = [t for t in range(count) if start[t] is None and all(f in finished for f in feeders[t])]
        free = [c for c in range(cores) if c not in busy]
        if waiting and free:
            task = min(waiting, key=lambda t: (-urgency[t], t))
            start[task], end[task], core[task] = now, now + cost[task], free[0]
            # Nothing that takes no time is seen as finished before the next instant.
            if cost[task] > 0 or len(free) > 1:
                continue
        later = [e for t, e in enumerate(end) if e is not None and start[t] is not None and e > now]
        if not later:
            if all(e is not None for e in end):
                return start, end, core
            continue
        if not (waiting and free):
            now = min(later)


def best_makespan(cost: list[float], fed: list[list[int]], cores: int) -> float:
    """The shortest block over every order of priorities: at most seven tasks, or it takes for ever."""
    best = float("inf")
    for order in permutations(range(len(cost))):
        urgency = [0.0] * len(cost)
        for place, task in enumerate(order):
            urgency[task] = float(len(cost) - place)
        _, end, _ = simulate(cost, fed, cores, urgency)
        best = min(best, max(end, default=0.0))
    return best
