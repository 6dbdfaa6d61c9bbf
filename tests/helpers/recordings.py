"""Recordings of hosts that never were: every start and end is known, so all that is read from them can be checked."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from nimbleload.core.watching.records import GIVES_WAY, SLEEPS, TAKES, Recording, Thread

NONE = np.zeros(0, np.int64)


def thread(
    number: int, stretches: Sequence[tuple[int, int]], name: str = "", real_time: bool = True, process: int = 1,
    gave_way: Sequence[int] = (), looks: Sequence[tuple[int, int]] = (), weight: int = 1_000_000,
    touches: Sequence[tuple[int, int, int]] = (), waited: float = -1.0, places: Sequence[int] = (),
    asleep: Sequence[tuple[int, int, int]] = (),
) -> Thread:  # fmt: skip
    """A thread that had a core in these stretches (ns); those of the numbers `gave_way` ended for another's sake.

    `looks` are times and owners, at these `places` in the code, if any; `touches` of memory that was not there are
    times, new pages (0: read) and owners; `asleep` looks at it asleep: times, owners and for what.
    """
    time, kind = [], []
    for place, (begin, end) in enumerate(stretches):
        time += [begin, end]
        kind += [TAKES, GIVES_WAY if place in gave_way else SLEEPS]
    at = np.array([each for each, _ in looks], np.int64)
    owner = np.array([each for _, each in looks], np.int64)
    times = np.array(time, np.int64)
    return Thread(
        process, number, name or f"thread {number}", real_time, times, np.array(kind, np.int64),
        np.zeros(len(times), np.int64), at, owner, np.full(len(at), weight, np.int64), waited,
        *np.array(touches, np.int64).reshape(-1, 3).T, np.array(places, np.int64), -1.0,
        *np.array(asleep, np.int64).reshape(-1, 3).T,
    )  # fmt: skip


def recording(*threads: Thread, files: Sequence[str] = (), begun: int = 0, seconds: float | None = None) -> Recording:
    """A recording of these threads, to the end of the last of them unless it is said how long."""
    last = max((int(t.switch_time[-1]) for t in threads if len(t.switch_time)), default=0)
    ended = last if seconds is None else begun + round(seconds * 1e9)
    return Recording(begun, ended, threads, tuple(files), {1: "host"})


def blocks(period: int, count: int, busy: Sequence[int], begun: int = 1_000_000_000) -> list[tuple[int, int]]:
    """When a single-threaded host has its core: from each tick on for so long (ns), block after block, in turn.

    What is not through at the next tick goes straight on with the next block, without sleeping.
    """
    found: list[tuple[int, int]] = []
    free = 0
    for k in range(count):
        tick = begun + k * period
        start = max(tick, free)
        free = start + busy[k % len(busy)]
        if found and start == found[-1][1] and start > tick:
            found[-1] = (found[-1][0], free)
        else:
            found.append((start, free))
    return found


READING_PERIOD, COUNT, EVERY = 5_000_000, 400, 20
# From the disk: so often in a block, and for so long each time (ns); computed in between.
TIMES, SLEEP, STEP = 60, 90_000, 4_000


def reading(times: int = TIMES) -> Recording:
    """A host in one thread that computes for 1 ms a block and reads so often from the disk in every so manieth one."""
    stretches: list[tuple[int, int]] = []
    touches, free = [], 0
    for k in range(COUNT):
        at = max(1_000_000_000 + k * READING_PERIOD, free)
        if stretches and at == free:
            stretches[-1] = (stretches[-1][0], at + 1_000_000)
        else:
            stretches.append((at, at + 1_000_000))
        if k % EVERY == EVERY - 1:
            for _ in range(times):
                begin = stretches[-1][1] + SLEEP
                stretches.append((begin, begin + STEP))
                touches.append((begin + 2_000, 0, 2))
        free = stretches[-1][1]
    made = thread(1, stretches, touches=touches, waited=0.0)
    return recording(made, files=("/plugins/Reed.so", "/plugins/Quire.so"))
