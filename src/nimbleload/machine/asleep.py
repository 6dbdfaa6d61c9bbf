"""Looks now and then at threads that sleep: in which system call they do, and who called it, as the stack tells.

The kernel's records say when a thread sleeps, and nothing of why. Nothing is stopped for this: what is read is
/proc/PID/task/TID/syscall and some bytes of /proc/PID/mem. Source: man 5 proc. Where the system does not let one read
these of other programs (kernel.yama.ptrace_scope), nothing is seen.
"""

from __future__ import annotations

import os
import platform
import random
import threading
import time
from collections import deque
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..core.watching.records import A_DEVICE, A_FILE, A_LOCK, A_PAGE, A_TIME, SOMETHING
from .processes import PROC

# It is looked so often (seconds, about), at so many threads at most in turn; so much of a stack is read (bytes).
EVERY, AT_ONCE, STACK = 0.02, 8, 1024
# What waits to be taken at most.
MOST = 20_000
# What calls are for (asm/unistd.h): nanosleep and clock_nanosleep; futex; read, write and their kin; poll and its kin.
# In no call a thread sleeps until a page has been read.
CALLS = {
    "x86_64": ((A_TIME, (35, 230)), (A_LOCK, (202,)), (A_FILE, (0, 1, 17, 18, 19, 20, 45, 47, 74, 75, 257)),
               (A_DEVICE, (7, 16, 23, 232, 270, 271, 281))),
    "aarch64": ((A_TIME, (101, 115)), (A_LOCK, (98,)), (A_FILE, (56, 63, 64, 65, 66, 67, 68, 82, 83, 207, 212)),
                (A_DEVICE, (22, 29, 72, 73))),
}  # fmt: skip
NO_CALL = -1
WHY = {NO_CALL: A_PAGE} | {call: why for why, calls in CALLS.get(platform.machine(), ()) for call in calls}


class Asleep(NamedTuple):
    """A look at a thread that slept: when (ns), its number, for what (as `Thread.sleep_why`), where in the code it is,
    and the top of its stack (words)."""

    time: int
    process: int
    thread: int
    why: int
    address: int
    stack: NDArray[np.uint64]


class Sleepers:
    """Looks at threads in a thread of its own, from `start` on."""

    def __init__(self, root: Path = PROC) -> None:
        self._root, self._threads, self._at = root, list[tuple[int, int]](), 0
        self._memory: dict[int, int] = {}
        self._seen: deque[Asleep] = deque(maxlen=MOST)
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look_on, name="asleep", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def follow(self, threads: list[tuple[int, int]]) -> None:
        """Looks at these from now on: processes and threads by number."""
        self._threads = threads

    def taken(self) -> list[Asleep]:
        """What was seen since the last time."""
        return [self._seen.popleft() for _ in range(len(self._seen))]

    def close(self) -> None:
        self._over.set()
        if self._thread.is_alive():
            self._thread.join()
        for file in self._memory.values():
            os.close(file)
        self._memory.clear()

    def _look_on(self) -> None:
        chance = random.Random(2)
        while not self._over.wait(EVERY * chance.uniform(0.5, 1.5)):
            threads = self._threads
            for k in range(min(AT_ONCE, len(threads))):
                found = self.look(*threads[(self._at + k) % len(threads)])
                if found is not None:
                    self._seen.append(found)
            self._at += AT_ONCE

    def look(self, process: int, thread: int) -> Asleep | None:
        """One look; None if the thread does not sleep, or cannot be seen."""
        at = time.monotonic_ns()
        try:
            words = (self._root / str(process) / "task" / str(thread) / "syscall").read_text().split()
        except OSError:
            return None
        if len(words) not in (3, 9):
            return None
        call, stack, address = int(words[0]), int(words[-2], 16), int(words[-1], 16)
        return Asleep(at, process, thread, WHY.get(call, SOMETHING), address, self._words(process, stack))

    def _words(self, process: int, place: int) -> NDArray[np.uint64]:
        """Some words of a process's memory; none where it cannot be read."""
        try:
            if process not in self._memory:
                self._memory[process] = os.open(self._root / str(process) / "mem", os.O_RDONLY | os.O_CLOEXEC)
            found = os.pread(self._memory[process], STACK, place)
        except (OSError, OverflowError):
            return np.zeros(0, np.uint64)
        return np.frombuffer(found[: len(found) // 8 * 8], np.uint64)
