"""What the example's sound is made of, sample by sample."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

# A string's sound begins within so many seconds, falls so fast (1/s), and has so many partials.
BEGINS, FALLS, PARTIALS = 0.004, 3.0, 6


@njit(cache=True)
def filtered(sound, gain, first, second):
    """A sound (N, float64) through two poles: y[n] = gain · x[n] − first · y[n − 1] − second · y[n − 2]."""
    made = np.empty(len(sound))
    before, last = 0.0, 0.0
    for i in range(len(sound)):
        before, last = last, gain * sound[i] - first * last - second * before
        made[i] = last
    return made


@njit(cache=True)
def plucked(pitch, count, rate):
    """So many samples of a string (count, float64) of so many hertz, at a rate (Hz); its partials are as loud as their
    numbers say."""
    made = np.empty(count)
    for i in range(count):
        # sin((k + 1) x) = 2 cos(x) sin(k x) − sin((k − 1) x): one sine in place of six.
        since = i / rate
        phase = 2 * math.pi * pitch * since
        twice, before, this, sound = 2 * math.cos(phase), 0.0, math.sin(phase), 0.0
        for k in range(PARTIALS):
            sound += this / (k + 1)
            before, this = this, twice * this - before
        made[i] = sound * math.exp(-FALLS * since) * min(since / BEGINS, 1.0)
    return made
