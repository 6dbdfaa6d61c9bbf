"""How fast a core that computes is now, by the known chain of steps that is asked while plugins are measured."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time

from ..native.cores import cores

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


def ask() -> float:
    """The same in a process of its own; 0 where it does not say."""
    with contextlib.suppress(OSError, ValueError, subprocess.SubprocessError):
        words = [sys.executable, "-m", "nimbleload.machine.clock_now"]
        return float(subprocess.run(words, capture_output=True, check=True, timeout=60).stdout)
    return 0.0


if __name__ == "__main__":
    print(best())
