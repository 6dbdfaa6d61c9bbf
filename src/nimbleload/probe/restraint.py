"""What a worker process may not do, and where it runs: limits, its core, real-time scheduling."""

from __future__ import annotations

import contextlib
import ctypes
import os
import resource
import signal

PR_SET_PDEATHSIG = 1


MEMORY_LIMIT = 8 << 30


REAL_TIME_SECONDS = 120


def restrain() -> None:
    """No core dumps, a memory limit, and an end when the parent ends."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # A plugin that opens a window's connection while it loads must find nothing to connect to.
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    os.environ.pop("DISPLAY", None)
    os.environ.pop("WAYLAND_DISPLAY", None)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_LIMIT, MEMORY_LIMIT))
    # A real-time process that never sleeps would starve its core: the system ends it if all else fails.
    resource.setrlimit(resource.RLIMIT_RTTIME, (REAL_TIME_SECONDS * 1_000_000, REAL_TIME_SECONDS * 1_000_000))
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)


def keep_off(core: int | None) -> None:
    """Leaves a core to the worker that measures there, where there is another one."""
    others = os.sched_getaffinity(0) - {core}
    if others:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, others)


def settle_on_core(core: int | None) -> bool:
    """Pins this process to a core and asks for real-time scheduling; whether that was allowed."""
    if core is not None:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {core})
    try:
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
    except OSError:
        return False
    return True
