"""What is compiled of finding a host's cycle; imported by whoever calls it, and only then."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(nogil=True, cache=True)
def in_step(starts, begin, due, period, early, drift, patience):  # type: ignore[no-untyped-def]
    """The places of the wakings that are whole periods apart from a time `due`, from the place `begin` on; when the
    last of them was due, and the place up to which it was looked.

    Each may come up to a share `early` of a period before or after it is due. The time follows them, but by so large a
    share of each period at most: a device's clock hardly changes, and being late is no other clock. It ends where so
    many wakings were out of step, over twice as many periods.
    """
    kept = np.zeros(max(len(starts) - begin, 0), np.int64)
    count, missed, since = 0, 0, due
    for k in range(begin, len(starts)):
        step = (starts[k] - due) / period
        whole = round(step)
        if whole < 1 and count:
            continue
        if abs(step - whole) < early:
            most = drift * max(whole, 1)
            due += (whole + min(max(step - whole, -most), most)) * period
            kept[count] = k
            count += 1
            missed, since = 0, due
        else:
            missed += 1
            if missed >= patience and starts[k] - since > 2 * patience * period:
                return kept[:count], due, k + 1
    return kept[:count], due, len(starts)


@njit(nogil=True, cache=True)
def alike(values, by):  # type: ignore[no-untyped-def]
    """Of each of some values (ascending), how many differ from it by so much at most, itself among them."""
    found = np.zeros(len(values), np.int64)
    first = last = 0
    for k in range(len(values)):
        while values[first] < values[k] - by:
            first += 1
        while last < len(values) and values[last] <= values[k] + by:
            last += 1
        found[k] = last - first
    return found
