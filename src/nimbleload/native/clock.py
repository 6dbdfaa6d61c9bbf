"""The monotonic clock for compiled code: reading it, and sleeping until a time on it. Times are nanoseconds.

`clock` is the address of two timespecs (32 bytes) that belong to the calling thread.
"""

from numba import njit, types

from .memory import array_at, load_i64

CLOCK_MONOTONIC, ABSOLUTE = 1, 1

_clock_gettime = types.ExternalFunction("clock_gettime", types.int32(types.int32, types.int64))
_clock_nanosleep = types.ExternalFunction(
    "clock_nanosleep", types.int32(types.int32, types.int32, types.int64, types.int64)
)


@njit(inline="always")
def now(clock):
    """The time."""
    _clock_gettime(CLOCK_MONOTONIC, clock)
    return load_i64(clock) * 1_000_000_000 + load_i64(clock + 8)


@njit(inline="always")
def rest_until(due, clock, like):
    """Sleeps until a time, if it is still to come; `like` is any array of int64."""
    if now(clock) < due:
        timespec = array_at(clock, 4, like)
        timespec[2], timespec[3] = due // 1_000_000_000, due % 1_000_000_000
        _clock_nanosleep(CLOCK_MONOTONIC, ABSOLUTE, clock + 16, 0)
