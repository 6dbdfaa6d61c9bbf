"""What a plugin computes beside the audio thread: in threads that it has made, and in processes that it has started.

Threads and processes inherit the core and the priority of the one that makes them: a plugin's helpers would wait for
the very core that waits for them. They are let go, to any other core, as under a host that runs its audio thread alone.
"""

from __future__ import annotations

import contextlib
import os
import threading
import time
from pathlib import Path

from ..native.cores import cores
from .supervisor import below, threads

# The cores of this process before it settles on one, and which of them are threads of one.
EVERYWHERE = os.sched_getaffinity(0)
TOGETHER_ON = cores(allowed=EVERYWHERE).same
PROC = Path("/proc")
# Clocks of this thread and of the process are read until they were within so many seconds, so often at most.
TOGETHER, TRIES = 3e-6, 20


def spent() -> float:
    """CPU time that all other threads and all descendants have had so far, in seconds."""
    for _ in range(TRIES):
        # What interrupts between the readings would count as somebody else's.
        before, all_of_them, after = time.thread_time(), time.process_time(), time.thread_time()
        if after - before < TOGETHER:
            break
    return all_of_them - (before + after) / 2 + sum(_cpu(process) for process in below(os.getpid()))


def _cpu(process: int) -> float:
    """CPU time of a process, in seconds; its threads' own counts, which the system keeps to the nanosecond."""
    total = 0
    for thread in threads(process):
        with contextlib.suppress(OSError, ValueError, IndexError):
            total += int((PROC / str(process) / "task" / str(thread) / "schedstat").read_text().split()[0])
    return total / 1e9


def let_go() -> None:
    """Lets every other thread and every descendant run on any core but this thread's, where there are others: on its
    other half only if there is nothing else."""
    mine = threading.get_native_id()
    others = [thread for thread in threads() if thread != mine]
    others += [thread for process in below(os.getpid()) for thread in threads(process)]
    if not others:
        return
    own = os.sched_getaffinity(0)
    taken = {each for core in own for each in TOGETHER_ON.get(core, (core,))}
    free = EVERYWHERE - taken or EVERYWHERE - own or EVERYWHERE
    for thread in others:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(thread, free)
