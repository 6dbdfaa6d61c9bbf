"""What is compiled of finding a host's cycle; imported by whoever calls it, and only then."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(nogil=True, cache=True)
def in_step(starts, first, period, early):  # type: ignore[no-untyped-def]
    """The places of the wakings that are whole periods apart, from the `first` on."""
    kept = np.zeros(len(starts), np.int64)
    kept[0] = last = first
    count = 1
    for k in range(first + 1, len(starts)):
        step = (starts[k] - starts[last]) / period
        if step > 0.5 and abs(step - round(step)) < early:
            kept[count] = last = k
            count += 1
    return kept[:count]
