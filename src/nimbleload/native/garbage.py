"""Python's search for garbage, out of the way of starting; and memory that goes back to the system."""

from __future__ import annotations

import contextlib
import ctypes
import gc
from collections.abc import Iterator


@contextlib.contextmanager
def kept() -> Iterator[None]:
    """What is made within is there to stay, as what is imported: no search for garbage goes through it, now or later.

    A million objects come with what the program imports: looking among them would take a fifth of a start.
    """
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


# What the GNU library is asked (malloc.h): how many heaps all threads may have together, from how many bytes on a block
# of memory is one of its own, and how many may lie free at the end of a heap.
ARENA_MAX, MMAP_THRESHOLD, TRIM_THRESHOLD = -8, -3, -1
ARENAS, OWN_BLOCK = 2, 1 << 18


def keep_little() -> None:
    """From now on large blocks of memory go back to the system as soon as they are free. For the beginning of a
    process: without it every thread has a heap that keeps the largest that was ever in it."""
    with contextlib.suppress(AttributeError):
        ask = ctypes.CDLL(None).mallopt
        for what, value in ((ARENA_MAX, ARENAS), (MMAP_THRESHOLD, OWN_BLOCK), (TRIM_THRESHOLD, OWN_BLOCK)):
            ask(what, value)


def give_back() -> None:
    """Gives memory that is free back to the system. The C library of most systems keeps it else, for ever."""
    gc.collect()
    with contextlib.suppress(AttributeError):
        ctypes.CDLL(None).malloc_trim(0)
