"""What a worker process may not do, and where it runs: limits, its core, real-time scheduling."""

from __future__ import annotations

import contextlib
import os
import resource
from pathlib import Path

from ..native.cores import cores
from .messages import Place

REAL_TIME_SECONDS = 120


def restrain(memory: int | None = None) -> None:
    """No core dumps, no window, and a limit in real time; with `memory`, no more addresses than so many bytes. Where
    memory is short, the system ends this process before any other."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # A plugin that opens a window's connection while it loads must find nothing to connect to.
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    os.environ.pop("DISPLAY", None)
    os.environ.pop("WAYLAND_DISPLAY", None)
    if memory is not None:
        resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    with contextlib.suppress(OSError):
        Path("/proc/self/oom_score_adj").write_text("1000")
    # A real-time process that never sleeps would starve its core: the system ends it if all else fails.
    resource.setrlimit(resource.RLIMIT_RTTIME, (REAL_TIME_SECONDS * 1_000_000, REAL_TIME_SECONDS * 1_000_000))


def place() -> Place:
    """Where is measured on this computer: on a fast core, as far as may be from where interrupts go."""
    here = cores()
    core = here.order[0]
    # Of several kinds of slow ones the most common: the slowest of all are two, and have the highest numbers.
    slow = here.slow[len(here.slow) // 2] if here.slow else None
    return Place(core, here.beside(core), here.away(core), slow)


def keep_off(of: Place) -> None:
    """Leaves a core to the worker that measures there, with its other thread, where there are others."""
    mine = os.sched_getaffinity(0)
    others = mine - {of.core, *of.beside} or mine - {of.core}
    if others:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, others)


def settle_on_core(core: int | None) -> bool:
    """Pins this process to a core and asks for real-time scheduling; whether that was allowed."""
    if core is not None:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {core})
    try:
        # Threads that the plugin makes start without it: a host gives it to its own audio thread alone.
        os.sched_setscheduler(0, os.SCHED_FIFO | os.SCHED_RESET_ON_FORK, os.sched_param(10))
    except OSError:
        return False
    return True
