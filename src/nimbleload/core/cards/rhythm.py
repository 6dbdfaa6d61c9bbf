"""The rhythm of a plugin's cost: work that comes in bursts, every so many blocks."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

# A burst costs at least this many times what an ordinary block does, and a period explains this much of the sequence.
HIGH = 1.5
CLEAR = 0.5


class Rhythm(NamedTuple):
    """`period` in blocks (None: no regular one), `ordinary` (the lower quartile) and `burst` in seconds per block."""

    period: int | None
    ordinary: float
    burst: float

    @property
    def is_bursty(self) -> bool:
        return self.burst > HIGH * max(self.ordinary, 1e-9) and self.burst - self.ordinary > 1e-6


def rhythm(own_ns: NDArray[np.int32]) -> Rhythm | None:
    """The rhythm of a block sequence (B, ns), by its autocorrelation; None for fewer than eight blocks.

    The period is the smallest lag whose normalised autocorrelation is nearly the highest one of all lags up to B / 2.
    """
    if len(own_ns) < 8:
        return None
    times = own_ns.astype(float) / 1e9
    ordinary, burst = float(np.percentile(times, 25)), float(np.percentile(times, 99.5, method="nearest"))
    centred = times - times.mean()
    power = float(np.dot(centred, centred))
    if power <= 0 or burst <= HIGH * max(ordinary, 1e-9):
        return Rhythm(None, ordinary, burst)
    size = 2 ** int(np.ceil(np.log2(2 * len(times))))
    spectrum = np.abs(np.fft.rfft(centred, size)) ** 2
    lags = np.arange(1, len(times) // 2)
    # A longer lag sums fewer pairs; each is judged by the mean of its own.
    correlation = np.fft.irfft(spectrum, size)[lags] / (len(times) - lags) * len(times) / power
    if len(correlation) == 0 or correlation.max() < CLEAR:
        return Rhythm(None, ordinary, burst)
    period = int(lags[np.argmax(correlation >= 0.9 * correlation.max())])
    return Rhythm(period if period > 1 else None, ordinary, burst)
