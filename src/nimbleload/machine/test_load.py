"""A test load: work of known size on real threads beside a running host, raised and lowered while somebody listens.

Each thread computes for a share of every block at a higher rank than hosts usually have, so that what it takes is
missing there; it runs in a process of its own. That ends by itself when nobody has asked it to go on for some seconds:
a load that takes all cores must never be the one thing left that runs.
"""

from __future__ import annotations

import contextlib
import os
import select
import subprocess
import sys
import threading
import time
from collections.abc import Callable

import msgspec
import numpy as np

from ..core.computer.ceiling import Held
from ..native.decoding import decoded
from .ending import end
from .hold import START_NS, Asked, unit_ns

# Above what sound servers and hosts are usually given, below what the kernel's own watchdogs have.
PRIORITY = 89
# What is left to the rest of the computer in any case (share of each core); how long it goes on unasked (seconds).
MOST, ALONE = 0.9, 3.0
REPORT_EVERY = 0.5


class _Load:
    """The threads, one a core; `level` may be changed while they run (share of the deadline, at most MOST)."""

    def __init__(self, asked: Asked) -> None:
        from . import held_work  # imported here: the compiler would lengthen every start

        self._compiled = held_work
        self._period = round(asked.buffer / asked.rate * 1e9)
        self._unit, self.level = unit_ns(), 0.0
        self._control = np.zeros(2, np.int64)
        self._told = np.zeros((len(asked.cores), 4), np.int64)
        self._given = [False] * len(asked.cores)
        begin = time.monotonic_ns() + START_NS
        self._threads = [
            threading.Thread(target=self._work, args=(place, core, begin)) for place, core in enumerate(asked.cores)
        ]
        for thread in self._threads:
            thread.start()

    def _work(self, place: int, core: int, begin: int) -> None:
        values, clock = self._compiled.material(), np.zeros(4, np.int64)
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {core})
        for priority in (PRIORITY, 10, 1):
            with contextlib.suppress(OSError):
                os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(priority))
                self._given[place] = True
                break
        told = self._told[place]
        addresses = self._control.ctypes.data, told.ctypes.data
        self._compiled.go_on(begin, self._period, *addresses, values, clock.ctypes.data, told)

    def set(self, level: float) -> None:
        if not self.level:
            # Threads that begin late have not missed anything yet.
            self._told[:] = 0
        self.level = min(max(level, 0.0), MOST)
        self._control[0] = round(self.level * self._period / self._unit)

    def report(self) -> Held:
        """What has happened since the last time.

        What a unit takes changes with the clock and with what runs on the other half of a core: the work follows it, so
        that the load stays what was asked for.
        """
        blocks, late, worst, spent = (int(self._told[:, k].max()) for k in range(4))
        self._told[:] = 0
        if blocks and spent and self._control[0]:
            self._unit = (self._unit + spent / blocks / int(self._control[0])) / 2
            self.set(self.level)
        return Held(self.level, blocks, late, worst / self._period, all(self._given))

    def end(self) -> None:
        self._control[1] = 1
        for thread in self._threads:
            thread.join()


class TestLoad:
    """A test load that runs; `told` is called in a thread of its own with what happened each half second, and with
    None when it has ended. `close` ends it."""

    __test__ = False  # no test, whatever its name says

    def __init__(self, asked: Asked, level: float, told: Callable[[Held | None], None]) -> None:
        words = [sys.executable, "-m", "nimbleload.machine.test_load", msgspec.json.encode(asked).decode()]
        self._process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        self._told, self._level, self._lock = told, level, threading.Lock()
        # Since when it is held, and as high as it is now. Its process takes a second to begin, on a busy computer more.
        self.begun: float | None = None
        self._since = 0.0
        self._over = threading.Event()
        self._threads = [threading.Thread(target=work, daemon=True) for work in (self._listen, self._keep_alive)]
        for thread in self._threads:
            thread.start()

    @property
    def process(self) -> int:
        """The number of its process."""
        return self._process.pid

    @property
    def is_over(self) -> bool:
        """Whether it has ended, by itself or otherwise."""
        return self._process.poll() is not None

    @property
    def lasted(self) -> float:
        """For how long it has been held as high as it is now (seconds); 0 before it has begun."""
        return time.monotonic() - self._since if self.begun is not None else 0.0

    def set(self, level: float) -> None:
        """Raises or lowers it (share of the deadline on each core; at most MOST)."""
        self._level, self._since = level, time.monotonic()
        self._say()

    def _say(self) -> None:
        assert self._process.stdin is not None
        with self._lock, contextlib.suppress(OSError, ValueError):
            self._process.stdin.write(f"{self._level}\n".encode())
            self._process.stdin.flush()

    def _keep_alive(self) -> None:
        self._say()
        while not self._over.wait(ALONE / 4):
            self._say()

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            if self.begun is None:
                self._since = self.begun = time.monotonic()
            self._told(decoded(line, Held))
        self._over.set()
        self._told(None)

    def close(self) -> None:
        """Ends it, and waits until it has."""
        self._over.set()
        with self._lock:
            end(self._process)
        for thread in self._threads:
            if thread is not threading.current_thread():
                thread.join(2)
        if self._process.stdout is not None:
            self._process.stdout.close()


def make_ready(asked: Asked) -> None:
    """Compiles what holds a load."""
    _Load(asked).end()


def main(words: str) -> None:
    """Holds the load that is said last on standard input; ends when that is closed, or when nothing comes for long."""
    load = _Load(decoded(words, Asked))
    reported = heard = time.monotonic()
    waiting = b""
    while time.monotonic() - heard < ALONE:
        if select.select([0], [], [], 0.05)[0]:
            said = os.read(0, 4096)
            if not said:
                break
            heard = time.monotonic()
            *lines, waiting = (waiting + said).split(b"\n")
            if lines:
                load.set(float(lines[-1]))
        if time.monotonic() - reported >= REPORT_EVERY:
            reported = time.monotonic()
            os.write(1, msgspec.json.encode(load.report()) + b"\n")
    load.end()


if __name__ == "__main__":
    main(sys.argv[1])
