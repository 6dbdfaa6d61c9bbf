"""What the example's sound is made of, sample by sample."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

# A string's sound begins within so many seconds, falls so fast (1/s), and has so many partials.
BEGINS, FALLS, PARTIALS = 0.004, 3.0, 6


def filtered(sound: NDArray[np.float64], gain: float, first: float, second: float) -> NDArray[np.float64]:
    """A sound (N) through two poles: y[n] = gain · x[n] − first · y[n − 1] − second · y[n − 2]."""
    made = np.empty(len(sound))
    _filter(np.ascontiguousarray(sound, np.float64), gain, first, second, made)
    return made


def plucked(pitch: float, count: int, rate: int) -> NDArray[np.float64]:
    """So many samples of a string of so many hertz, at a rate (Hz); its partials are as loud as their numbers say."""
    made = np.empty(count)
    _pluck(2 * math.pi * pitch / rate, 1.0 / rate, made)
    return made


@njit(cache=True)
def _filter(sound, gain, first, second, made):
    before, last = 0.0, 0.0
    for i in range(len(sound)):
        before, last = last, gain * sound[i] - first * last - second * before
        made[i] = last


@njit(cache=True)
def _pluck(step, second, made):
    for i in range(len(made)):
        # sin((k + 1) x) = 2 cos(x) sin(k x) − sin((k − 1) x): one sine in place of six.
        twice, before, this, sound = 2 * math.cos(i * step), 0.0, math.sin(i * step), 0.0
        for k in range(PARTIALS):
            sound += this / (k + 1)
            before, this = this, twice * this - before
        since = i * second
        made[i] = sound * math.exp(-FALLS * since) * min(since / BEGINS, 1.0)
