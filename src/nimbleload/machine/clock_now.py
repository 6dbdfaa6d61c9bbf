"""How fast a core that computes is now, by the known chain of steps that is asked while plugins are measured."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable

from ..native.cores import cores
from .hold import told_by_process

# For so long the core computes (seconds): one that has rested takes a moment to come to its clock.
SECONDS, ROW = 0.4, 200


def best() -> float:
    """What the chain takes at the best clock that the core comes to, on the core on which plugins are measured
    (seconds)."""
    from ..native.witness import best_clock, looks  # imported here: the compiler would lengthen every start

    with contextlib.suppress(OSError):
        os.sched_setaffinity(0, {cores().order[0]})
    until, found = time.monotonic() + SECONDS, []
    while time.monotonic() < until:
        found.append(best_clock(looks(ROW)))
    return min(found) / 1e9


def ask(cancelled: Callable[[], bool] = lambda: False) -> float:
    """The same in a process of its own; 0 where it does not say, or is cancelled."""
    with contextlib.suppress(OSError, ValueError, RuntimeError):
        for said in told_by_process("nimbleload.machine.clock_now", "", cancelled):
            return float(said)
    return 0.0


if __name__ == "__main__":
    print(best())
