"""Looks now and then at threads that sleep: in which system call they do, and who called it, as the stack tells.

The kernel's records say when a thread sleeps, and nothing of why. Nothing is stopped for this: what is read is
/proc/PID/task/TID/syscall and some bytes of /proc/PID/mem. Source: man 5 proc. Where the system does not let one read
these of other programs (kernel.yama.ptrace_scope), nothing is seen.
"""

from __future__ import annotations

import os
import platform
import time
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..core.watching.records import A_DEVICE, A_FILE, A_LOCK, A_PAGE, A_TIME, SOMETHING
from .processes import PROC

# It is looked at so many threads at a time; so much of a stack is read (bytes).
AT_ONCE, STACK = 4, 1024
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
    """Looks at threads, some at a time. Whoever asks for that is awake anyway: to be woken for each look would cost ten
    times as much as the look."""

    def __init__(self, root: Path = PROC) -> None:
        self._root, self._threads, self._at = root, list[tuple[int, int]](), 0
        self._files: dict[tuple[int, int], int] = {}
        self._memory: dict[int, int] = {}

    def follow(self, threads: list[tuple[int, int]]) -> None:
        """Looks at these from now on: processes and threads by number."""
        for thread in self._files.keys() - set(threads):
            os.close(self._files.pop(thread))
        for process in self._memory.keys() - {process for process, _ in threads}:
            os.close(self._memory.pop(process))
        self._threads = threads

    def looks(self) -> list[Asleep]:
        """Those of the next few threads that sleep."""
        count = min(AT_ONCE, len(self._threads))
        found = [self.look(*self._threads[(self._at + k) % len(self._threads)]) for k in range(count)]
        self._at += count
        return [each for each in found if each is not None]

    def close(self) -> None:
        self.follow([])

    def look(self, process: int, thread: int) -> Asleep | None:
        """One look; None if the thread does not sleep, or cannot be seen."""
        at, one = time.monotonic_ns(), (process, thread)
        try:
            if one not in self._files:
                path = self._root / str(process) / "task" / str(thread) / "syscall"
                self._files[one] = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
            words = os.pread(self._files[one], 256, 0).split()
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
