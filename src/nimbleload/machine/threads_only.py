"""What can be seen of a host without the kernel's records: what each thread takes, and how long it waits for a core.

The scheduler keeps that for every thread; which plugin computes, and block by block, it does not tell.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

from ..core.watching.threads import ThreadLoad
from . import processes
from .processes import PROC


def seen(
    watched: Sequence[int], seconds: float, root: Path = PROC, sleep: Callable[[float], object] = time.sleep
) -> list[ThreadLoad]:
    """What the threads of these processes, and of all below them, take in so many seconds; the busiest first.

    ProcessLookupError if there is no such process.
    """
    before = _threads(watched, root)
    if not before:
        raise ProcessLookupError(3, f"there is no process {watched[0]}, or it is another user's")
    begun = time.monotonic()
    sleep(seconds)
    after, length = _threads(watched, root), max(time.monotonic() - begun, 1e-3)
    found = []
    for number, now in after.items():
        old = before.get(number)
        if old is not None:
            took, waited = (now.cpu - old.cpu) / length, (now.waited - old.waited) / length
            found.append(ThreadLoad(now.name, now.is_real_time, max(took, 0.0), max(waited, 0.0)))
    return sorted(found, key=lambda each: (-each.core, each.name))


def _threads(watched: Sequence[int], root: Path) -> dict[int, processes.Thread]:
    every = processes.descendants(watched, root)
    return {thread.number: thread for process in every for thread in processes.threads(process, root)}
