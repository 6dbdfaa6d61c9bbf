"""How long threads were ready to run and got no core, and how long they ran, read again and again: whether one that
begins late had no core, or slept on; whether all the time in which it had a core was its own. Files stay open. Source:
Documentation/scheduler/sched-stats.rst (schedstat).
"""

from __future__ import annotations

import os
import time
from collections import deque
from pathlib import Path

import numpy as np

from ..core.watching.records import READ_WITHIN, Times
from .processes import PROC

# So many threads at most.
MOST = 32


class Ready:
    """Reads it of some threads for as long as readings are kept (seconds)."""

    def __init__(self, seconds: float, root: Path = PROC) -> None:
        self._root, self._kept = root, round(seconds * 1e9)
        self._files: dict[int, int] = {}
        self._read: dict[int, deque[tuple[int, int, int]]] = {}

    def follow(self, threads: list[tuple[int, int]]) -> None:
        """Reads of these from now on: processes and threads by number."""
        first = threads[:MOST]
        for number in self._files.keys() - {number for _, number in first}:
            os.close(self._files.pop(number))
        for process, number in first:
            if number not in self._files:
                path = self._root / str(process) / "task" / str(number) / "schedstat"
                try:
                    self._files[number] = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
                except OSError:
                    continue

    def look(self) -> None:
        """Reads once of each. What took so long that it is not known when it was read is not kept."""
        for number, file in list(self._files.items()):
            try:
                at, words = time.monotonic_ns(), os.pread(file, 128, 0).split()
                ran, waited = int(words[0]), int(words[1])
            except (OSError, ValueError, IndexError):
                os.close(self._files.pop(number))
                continue
            read = self._read.setdefault(number, deque())
            if time.monotonic_ns() - at <= READ_WITHIN:
                read.append((at, waited, ran))
            while read and read[0][0] < at - self._kept:
                read.popleft()

    def found(self, number: int, since: int) -> tuple[Times, Times, Times]:
        """What was read of a thread since a time (ns), and the last before it: when, how long it had been ready, and
        how long it had run."""
        read = np.array(self._read.get(number, ()), np.int64).reshape(-1, 3)
        first = max(int(np.searchsorted(read[:, 0], since, "right")) - 1, 0)
        time_, waited, ran = read[first:].T
        return time_, waited, ran

    def close(self) -> None:
        self.follow([])
