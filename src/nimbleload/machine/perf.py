"""The kernel's records of one thread: when it leaves and takes a core, now and then where in the code it is, and where
it touched memory that was not there.

`perf_event_open` needs no package and, at `kernel.perf_event_paranoid` up to 2, no rights beyond those of the same
user. Source: man 2 perf_event_open; linux/perf_event.h. Times are CLOCK_MONOTONIC, in nanoseconds.
"""

from __future__ import annotations

import ctypes
import errno
import mmap
import os
import platform
import threading
import time
from collections.abc import Sequence
from functools import cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

# The number of the system call, and of the register that holds the stack pointer (asm/perf_regs.h).
CALLS = {"x86_64": (298, 7), "aarch64": (241, 31)}
SOFTWARE, TASK_CLOCK, NEW_PAGES, PAGES_READ = 1, 1, 5, 6
IP, TID, TIME, CPU, REGS_USER, STACK_USER, IDENTIFIER = 1 << 0, 1 << 1, 1 << 2, 1 << 7, 1 << 12, 1 << 13, 1 << 16
EXCLUDE_KERNEL, EXCLUDE_HV, WATERMARK, ID_ALL, USE_CLOCKID = 1 << 5, 1 << 6, 1 << 14, 1 << 18, 1 << 25
CONTEXT_SWITCH = 1 << 26
CLOCK_MONOTONIC, CLOSE_ON_EXEC = 1, 8
SET_OUTPUT, SET_PERIOD, GET_ID = 0x2405, 0x40082404, 0x80082407
# Words of the control page: where the kernel writes next, and how far we have read.
HEAD, TAIL = 128, 129
STACK_BYTES = 512
# Records want to be read when such a part (one over it) of their room is full.
FULL = 2
# A record for each page that is read from the disk, and for so many that are new.
NEW_EVERY = 32


class NotAllowedError(Exception):
    """The kernel does not let this user see what threads do."""


class _Attributes(ctypes.Structure):
    """struct perf_event_attr, up to its fifth version."""

    _fields_ = (
        ("type", ctypes.c_uint32), ("size", ctypes.c_uint32), ("config", ctypes.c_uint64),
        ("period", ctypes.c_uint64), ("sample_type", ctypes.c_uint64), ("read_format", ctypes.c_uint64),
        ("flags", ctypes.c_uint64), ("wakeup", ctypes.c_uint32), ("bp_type", ctypes.c_uint32),
        ("config1", ctypes.c_uint64), ("config2", ctypes.c_uint64), ("branches", ctypes.c_uint64),
        ("registers", ctypes.c_uint64), ("stack", ctypes.c_uint32), ("clock", ctypes.c_int32),
        ("registers_at", ctypes.c_uint64), ("watermark", ctypes.c_uint32), ("most", ctypes.c_uint16),
        ("reserved", ctypes.c_uint16),
    )  # fmt: skip


class Read(NamedTuple):
    """What one thread's records tell: N switches (`time` ns, `kind`, `cpu`), M samples (`time` ns, `owner`; `address`,
    and `place`, that of the caller where this decided whose it is) and F
    touches of memory that was not there (`time` ns; `pages` that were new, or 0 for one that was read; `owner`).

    `lost` counts records that the kernel had no room for.
    """

    switch_time: NDArray[np.int64]
    switch_kind: NDArray[np.int64]
    switch_cpu: NDArray[np.int64]
    sample_time: NDArray[np.int64]
    sample_owner: NDArray[np.int64]
    sample_address: NDArray[np.int64]
    sample_place: NDArray[np.int64]
    fault_time: NDArray[np.int64]
    fault_pages: NDArray[np.int64]
    fault_owner: NDArray[np.int64]
    lost: int


class Code(NamedTuple):
    """To whom addresses belong: as `begin`, `end`, `owner` and `whole` of `read`."""

    begin: NDArray[np.uint64]
    end: NDArray[np.uint64]
    owner: NDArray[np.int64]
    whole: NDArray[np.int64]


class Records:
    """The records of one thread, from now on. `period` is after how much CPU time (ns) it is looked where it is.

    `pages` is the room for records, a power of two. NotAllowedError if the kernel refuses, ProcessLookupError if there
    is no such thread any more; OSError with EPERM if there is no memory left for it.
    """

    def __init__(self, thread: int, period: int, pages: int = 64, sampled: bool = True) -> None:
        wakeup = pages * mmap.PAGESIZE // FULL
        self._libc = ctypes.CDLL(None, use_errno=True)
        self._file = self._opened(thread, TASK_CLOCK, period if sampled else 0, CONTEXT_SWITCH, wakeup)
        self._beside: list[int] = []
        try:
            self._map = mmap.mmap(self._file, (1 + pages) * mmap.PAGESIZE)
        except OSError:
            os.close(self._file)
            raise
        self.thread, self.period = thread, period
        words = np.frombuffer(self._map, np.uint64)
        self._control, self._ring = words[: mmap.PAGESIZE // 8], words[mmap.PAGESIZE // 8 :]
        try:
            self.faults = self._joined(PAGES_READ, 1, wakeup), self._joined(NEW_PAGES, NEW_EVERY, wakeup)
        except (OSError, NotAllowedError):
            self.close()
            raise

    def _opened(self, thread: int, config: int, period: int, more: int, wakeup: int) -> int:
        """The file of an event of a thread."""
        call, stack_pointer = CALLS[platform.machine()]
        attributes = _Attributes(
            type=SOFTWARE, size=ctypes.sizeof(_Attributes), config=config, period=period,
            sample_type=IP | TID | TIME | CPU | REGS_USER | STACK_USER | IDENTIFIER,
            flags=EXCLUDE_KERNEL | EXCLUDE_HV | WATERMARK | ID_ALL | USE_CLOCKID | more,
            wakeup=wakeup, registers=1 << stack_pointer, stack=STACK_BYTES, clock=CLOCK_MONOTONIC,
        )  # fmt: skip
        file: int = self._libc.syscall(call, ctypes.byref(attributes), thread, -1, -1, CLOSE_ON_EXEC)
        if file < 0:
            number = ctypes.get_errno()
            if number == errno.ESRCH:
                raise ProcessLookupError(number, os.strerror(number))
            if number == errno.EMFILE:
                raise OSError(number, os.strerror(number))
            raise NotAllowedError(os.strerror(number))
        return file

    def _joined(self, config: int, period: int, wakeup: int) -> int:
        """Has another event of the thread write its records among the others; the number that they bear."""
        file = self._opened(self.thread, config, period, 0, wakeup)
        self._beside.append(file)
        number = ctypes.c_uint64()
        done = self._libc.ioctl(file, ctypes.c_ulong(SET_OUTPUT), self._file)
        if done or self._libc.ioctl(file, ctypes.c_ulong(GET_ID), ctypes.byref(number)):
            raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
        return number.value

    def look_every(self, period: int) -> None:
        """Changes after how much CPU time (ns) it is looked where the thread is."""
        value = ctypes.c_uint64(period)
        if self._libc.ioctl(self._file, ctypes.c_ulong(SET_PERIOD), ctypes.byref(value)) == 0:
            self.period = period

    def fileno(self) -> int:
        """For `select.poll`: ready when half of the room for records is full, or the thread has ended."""
        return self._file

    @property
    def waiting(self) -> int:
        """How many bytes of records wait to be read."""
        return int(self._control[HEAD] - self._control[TAIL])

    def taken(self) -> NDArray[np.uint64]:
        """The records made since the last time, as words in order; their room is free again."""
        head, tail = int(self._control[HEAD]), int(self._control[TAIL])
        places = np.arange(tail // 8, head // 8) % len(self._ring)
        words = self._ring[places]
        self._control[TAIL] = head
        return words

    def close(self) -> None:
        """Ends it; the thread is as it was before."""
        del self._control, self._ring
        self._map.close()
        for file in (*self._beside, self._file):
            os.close(file)


def read(
    words: NDArray[np.uint64], begin: NDArray[np.uint64], end: NDArray[np.uint64], owner: NDArray[np.int64],
    whole: NDArray[np.int64] | None = None, faults: tuple[int, int] = (0, 0),
) -> Read:  # fmt: skip
    """What records (words) tell. Addresses from `begin` to `end` (ascending, not overlapping) belong to `owner`. What
    owners share that are part of a `whole` (by owner; the whole itself for a whole, 0 for what is neither) belongs to
    the one of them that called it, where the stack tells, and else to the whole. Without it nothing is shared. `faults`
    are the numbers that records of memory bear which was read, and which is new (see `Records`)."""
    from . import perf_records  # imported here: the compiler would lengthen every start

    numbers = np.array(faults, np.uint64)
    lengths = np.repeat(perf_records.counted(words, numbers), (3, 4, 3))
    arrays = [np.zeros(length, np.int64) for length in lengths]
    whole = np.zeros(int(owner.max(initial=0)) + 1, np.int64) if whole is None else whole
    lost = perf_records.read(words, begin, end, owner, whole, numbers, NEW_EVERY, *arrays)
    return Read(**dict(zip(Read._fields, arrays, strict=False)), lost=int(lost))


def whose(addresses: Sequence[int], stacks: Sequence[NDArray[np.uint64]], code: Code) -> list[int]:
    """To whom addresses belong, with the words of the stack behind each (see `read`)."""
    from . import perf_records  # imported here: the compiler would lengthen every start

    lengths = np.array([len(stack) for stack in stacks], np.int64)
    words = np.zeros((len(stacks), int(lengths.max(initial=0))), np.uint64)
    for row, stack in zip(words, stacks, strict=True):
        row[: len(stack)] = stack
    found: list[int] = perf_records.attributed_all(np.array(addresses, np.uint64), words, lengths, *code).tolist()
    return found


@cache
def price(period: int = 100_000, seconds: float = 0.05) -> float:
    """What one look costs the thread that is looked at (seconds): the same arithmetic here, with looks and without.

    Measured once. NotAllowedError if the kernel refuses.
    """
    records = Records(threading.get_native_id(), period)
    none = np.zeros(0, np.uint64)

    def work() -> float:
        begun = time.thread_time()
        for _ in range(2000):
            pass
        return time.thread_time() - begun

    once = max(min(work() for _ in range(20)), 1e-6)
    rounds = max(int(seconds / once), 1)
    best: dict[str, tuple[float, int]] = {}
    for _ in range(3):
        for name, every in (("without", 1 << 40), ("with", period)):
            records.look_every(every)
            read(records.taken(), none, none, none.astype(np.int64))
            begun = time.thread_time()
            for _ in range(rounds):
                work()
            taken = time.thread_time() - begun
            looks = len(read(records.taken(), none, none, none.astype(np.int64)).sample_time)
            if name not in best or taken < best[name][0]:
                best[name] = taken, looks
    records.close()
    (plain, before), (looked, after) = best["without"], best["with"]
    return max(looked - plain, 0.0) / max(after - before, 1)
