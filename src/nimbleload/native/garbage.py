"""Python's search for garbage, out of the way of starting."""

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


def give_back() -> None:
    """Gives memory that is free back to the system. The C library of most systems keeps it else, for ever."""
    gc.collect()
    with contextlib.suppress(AttributeError):
        ctypes.CDLL(None).malloc_trim(0)
