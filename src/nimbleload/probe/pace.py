"""How fast this core computes right now: a fixed piece of arithmetic, timed again and again.

A core shared with another thread, or one that lowers its clock, computes everything slower for seconds at a time. The
least of a few runs cannot show that; a piece of work whose time is known can.
"""

from __future__ import annotations

import time

import numpy as np
from numba import njit

from .timed import _now

STEPS = 24
VALUES = 2048
TRIES = 4
SLOW = 1.04


@njit(nogil=True, cache=True, fastmath=True)
def _work(values, steps, tries, clock):
    """The least time of some tries at the same arithmetic, in nanoseconds.

    Its operations do not wait for each other: a second thread on the core takes its share of them away.
    """
    least = 1 << 60
    for _ in range(tries):
        begun = _now(clock)
        for _ in range(steps):
            for i in range(len(values)):
                x = values[i]
                values[i] = 0.5 * x + x * x * (0.25 - 0.125 * x)
        least = min(least, _now(clock) - begun)
    return least


class Pace:
    """`best` is the least time of the fixed work seen so far (ns); a lower one from an earlier run may be given."""

    def __init__(self, best: float | None = None) -> None:
        self._clock = np.zeros(2, np.int64)
        self.best = float("inf") if best is None else best
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
        """Works on until the core is as fast as ever, but no longer than so many seconds; sleep would slow it down."""
        until = time.monotonic() + seconds
        while time.monotonic() < until and not self.is_good():
            continue
