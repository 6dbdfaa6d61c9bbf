"""What the system counts of the calling thread, for compiled code."""

from __future__ import annotations

from numba import njit, types

from .clock import now
from .memory import load_i64

THREAD_CPU, OF_THREAD = 3, 1
# struct rusage on 64-bit Linux: pages read from the disk, switches of its own accord, and others.
MAJOR, OWN, FORCED, BYTES = 72, 128, 136, 144
# The columns of an account: the time (ns), that on a core (ns), and the three counts.
TIME, ON_CORE, READ, SLEPT, PUSHED, COLUMNS = range(6)

_clock_gettime = types.ExternalFunction("clock_gettime", types.int32(types.int32, types.int64))
_getrusage = types.ExternalFunction("getrusage", types.int32(types.int32, types.int64))


@njit(inline="always")
def account(into, clock, room):
    """Fills a row (COLUMNS, int64). `clock` as in `now`; `room` is the address of BYTES bytes of the thread's own."""
    _getrusage(OF_THREAD, room)
    into[READ] = load_i64(room + MAJOR)
    into[SLEPT] = load_i64(room + OWN)
    into[PUSHED] = load_i64(room + FORCED)
    _clock_gettime(THREAD_CPU, clock)
    into[ON_CORE] = load_i64(clock) * 1_000_000_000 + load_i64(clock + 8)
    into[TIME] = now(clock)
