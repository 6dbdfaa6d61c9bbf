"""How fast this core computes right now: a fixed piece of arithmetic, timed again and again.

A core shared with another thread, or one that lowers its clock, computes everything slower for seconds at a time. The
least of a few runs cannot show that; a piece of work whose time is known can.
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..native.clock import now

STEPS = 24
VALUES = 2048
TRIES = 4
SLOW = 1.04
# Where the computer is not quiet, up to so many times the runs that are wanted are made.
MOST_ROUNDS = 3


@njit(nogil=True, cache=True, fastmath=True)
def _work(values, steps, tries, clock):
    """The least time of some tries at the same arithmetic, in nanoseconds.

    Its operations do not wait for each other: a second thread on the core takes its share of them away.
    """
    least = 1 << 60
    for _ in range(tries):
        begun = now(clock)
        for _ in range(steps):
            for i in range(len(values)):
                x = values[i]
                values[i] = 0.5 * x + x * x * (0.25 - 0.125 * x)
        least = min(least, now(clock) - begun)
    return least


class Pace:
    """`best` is the least time of the fixed work seen so far (ns); a lower one from an earlier run may be given."""

    def __init__(self, best: float | None = None) -> None:
        self._clock = np.zeros(2, np.int64)
        self.best = float("inf") if best is None else best
        self._in_vain = 0
        self._values = np.full(VALUES, 0.5, np.float32)
        self.now()

    def now(self) -> float:
        """What the fixed work takes now, against the best (1 = as fast as ever)."""
        self._values.fill(0.5)
        taken = float(_work(self._values, STEPS, TRIES, self._clock.ctypes.data))
        self.best = min(self.best, taken)
        return taken / self.best

    def is_good(self) -> bool:
        return self.now() <= SLOW

    def wait(self, seconds: float = 0.02) -> None:
        """Works on until the core is as fast as ever, but no longer than so many seconds; sleep would slow it down.

        Each time that it waits in vain it waits less long the next: what lasts for seconds is not waited for.
        """
        until = time.monotonic() + seconds / (1 + self._in_vain)
        while time.monotonic() < until:
            if self.is_good():
                self._in_vain = 0
                return
        self._in_vain += 1

    def hurry(self) -> None:
        """Hardly waits any more, as after a hundred times in vain."""
        self._in_vain = 100

    def learn(self, seconds: float) -> None:
        """Works for so many seconds, so that `best` is what this core can do."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.now()

    def quiet_runs(
        self, run: Callable[[], NDArray[np.int64]], wanted: int, seconds: float = float("inf")
    ) -> tuple[list[NDArray[np.int64]], bool]:
        """Makes runs (ns) until so many were good, or three times as many were made; and whether enough were good.

        A run is good if the core was as fast as ever before and after it. More than are wanted are made for no longer
        than so many seconds, and not at all where more often than that it was waited in vain.
        """
        runs: list[NDArray[np.int64]] = []
        good, until = 0, time.monotonic() + seconds
        while good < wanted and len(runs) < MOST_ROUNDS * wanted:
            if len(runs) >= wanted and (time.monotonic() > until or self._in_vain > MOST_ROUNDS * wanted):
                break
            self.wait()
            runs.append(run())
            good += self.is_good()
        return runs, good >= wanted
