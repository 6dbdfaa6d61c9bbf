"""Taking turns: two programs that time plugins on one core at once would spoil each other's figures, or starve."""

from __future__ import annotations

import fcntl
import os
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

POLL_SECONDS = 0.2


def lock_file(core: int) -> Path:
    """The file by which programs of one user take turns on a core."""
    return Path(tempfile.gettempdir()) / f"nimble-load-{os.getuid()}-core-{core}.lock"


@contextmanager
def turn(core: int, cancelled: Callable[[], bool] = lambda: False) -> Iterator[bool]:
    """Waits until nobody else of this user times plugins on a core; false if cancelled meanwhile.

    The system gives the turn back by itself when a process ends, however it ends.
    """
    with lock_file(core).open("a") as file:
        while True:
            if cancelled():
                yield False
                return
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                time.sleep(POLL_SECONDS)
        yield True
