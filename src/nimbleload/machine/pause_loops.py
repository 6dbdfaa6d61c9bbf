"""Code that only waits: loops around the processor's instruction for it, and calls that do nothing but give way.

A thread that does not sleep until there is work, but looks again and again whether there is some, tells the processor
so (`pause`), or gives way to others (`sched_yield`). Both are found in the code itself, in the files that are mapped.
Source: Intel's and AMD's manuals of the instructions PAUSE, JMP rel8/rel32 and Jcc rel8/rel32; of an x86-64 alone.
"""

from __future__ import annotations

import os
import platform
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

PAGE = 4096
PAUSE = b"\xf3\x90"
# mov $24, %eax; syscall (sched_yield): where a thread is while it gives way lies right behind it.
YIELD = b"\xb8\x18\0\0\0\x0f\x05"
# A loop closes so many bytes behind its pause at most, and has begun so many before it.
CLOSES, BEGINS = 96, 512
SHORT_JUMPS, NEAR_JUMPS = (0xEB, *range(0x70, 0x80)), range(0x80, 0x90)


class PauseLoops:
    """The code of one process that only waits, read page by page where somebody looks."""

    def __init__(self) -> None:
        self._known: set[int] = set()
        self._found: set[tuple[int, int]] = set()
        self._begin = self._end = np.zeros(0, np.uint64)

    def waits(
        self, addresses: NDArray[np.uint64], lies: Callable[[int], tuple[Path, int] | None]
    ) -> NDArray[np.bool_]:
        """Which addresses (N) lie in such code. `lies` tells in which file the code at an address is, and at which
        byte; None if in no file."""
        new = [page for page in np.unique(addresses // np.uint64(PAGE)).tolist() if page not in self._known]
        for page in new:
            self._known.add(page)
            where = lies(page * PAGE)
            if where is not None:
                path, place = where
                before = min(BEGINS, place)
                first = page * PAGE - before
                code = _bytes(path, place - before, before + PAGE + CLOSES)
                self._found.update((first + begin, first + end) for begin, end in loops(code))
        if new:
            self._begin, self._end = (np.array(each, np.uint64) for each in _apart(self._found))
        at = np.searchsorted(self._begin, addresses, "right")
        return np.asarray((at > 0) & (addresses < np.append(self._end, np.uint64(0))[at - 1]), np.bool_)


def loops(code: bytes) -> Iterator[tuple[int, int]]:
    """Where code (x86-64) only waits: from which byte to which. Loops may lie over each other."""
    at = code.find(PAUSE)
    while at >= 0:
        found = _loop_around(code, at)
        if found is not None:
            yield found
        at = code.find(PAUSE, at + 1)
    at = code.find(YIELD)
    while at >= 0:
        yield at, at + len(YIELD) + 1
        at = code.find(YIELD, at + 1)


def _loop_around(code: bytes, pause: int) -> tuple[int, int] | None:
    """The loop that the first jump behind a pause closes which leads back to before it, or onto it."""
    for at in range(pause + len(PAUSE), min(pause + CLOSES, len(code) - 1)):
        if code[at] in SHORT_JUMPS:
            end, back = at + 2, int.from_bytes(code[at + 1 : at + 2], "little", signed=True)
        elif code[at] == 0xE9:
            end, back = at + 5, int.from_bytes(code[at + 1 : at + 5], "little", signed=True)
        elif code[at] == 0x0F and code[at + 1] in NEAR_JUMPS:
            end, back = at + 6, int.from_bytes(code[at + 2 : at + 6], "little", signed=True)
        else:
            continue
        if max(pause - BEGINS, 0) <= end + back <= pause and end <= len(code):
            return end + back, end
    return None


def _apart(stretches: set[tuple[int, int]]) -> tuple[list[int], list[int]]:
    """Stretches that may lie over each other as beginnings and ends of such that do not, in order."""
    begins, ends = list[int](), list[int]()
    for begin, end in sorted(stretches):
        if ends and begin <= ends[-1]:
            ends[-1] = max(ends[-1], end)
        else:
            begins.append(begin)
            ends.append(end)
    return begins, ends


def _bytes(path: Path, place: int, size: int) -> bytes:
    """A part of a file; nothing where it cannot be read, or this is another processor's code."""
    if platform.machine() != "x86_64":
        return b""
    try:
        file = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return b""
    try:
        return os.pread(file, size, place)
    except OSError:
        return b""
    finally:
        os.close(file)
