"""Shoreline, a parametric equaliser: a row of peaking filters, spread evenly over the octaves.

Second-order sections in transposed direct form II; a peaking filter is the bilinear transform of
(s² + s·A/Q + 1) / (s² + s/(A·Q) + 1), as in R. Bristow-Johnson's cookbook of audio filters.
"""

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from .abi import AUDIO_IN, AUDIO_OUT, CONTINUE, F32, channel, memory_of
from .instance import Memory


def memory(values, rate):
    """Five coefficients a band; two state values a band and channel."""
    bands = int(values["bands"])
    centres = np.geomspace(values["lowest"], min(values["highest"], 0.45 * rate), bands)
    gains = values["gain"] * (-1.0) ** np.arange(bands)
    rows = [peaking(f, g, values["q"], rate) for f, g in zip(centres, gains, strict=True)]
    return Memory(np.concatenate(rows), np.zeros(4 * bands), F32.copy(), np.array([bands]))


def peaking(frequency, gain, q, rate):
    """b0, b1, b2, a1, a2 of one peaking filter (Hz, dB), a0 = 1."""
    angle = 2 * np.pi * frequency / rate
    amount = 10 ** (gain / 40)
    alpha = np.sin(angle) / (2 * q)
    top = np.array([1 + alpha * amount, -2 * np.cos(angle), 1 - alpha * amount])
    bottom = np.array([1 + alpha / amount, -2 * np.cos(angle), 1 - alpha / amount])
    return np.concatenate((top, bottom[1:])) / bottom[0]


@njit(cache=True)
def filter_channel(coefficients, state, bands, source, target):
    """All bands over one channel; `state` (2 × bands) is carried on."""
    target[:] = source
    for band in range(bands):
        b0, b1, b2 = coefficients[5 * band], coefficients[5 * band + 1], coefficients[5 * band + 2]
        a1, a2 = coefficients[5 * band + 3], coefficients[5 * band + 4]
        first, second = state[2 * band], state[2 * band + 1]
        for i in range(len(target)):
            x = np.float64(target[i])
            y = b0 * x + first
            first = b1 * x - a1 * y + second
            second = b2 * x - a2 * y
            target[i] = y
        state[2 * band], state[2 * band + 1] = first, second


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    coefficients, state, _, counters = memory_of(plugin)
    bands = counters[0]
    for c in range(2):
        own = state[2 * bands * c : 2 * bands * (c + 1)]
        filter_channel(coefficients, own, bands, channel(block, AUDIO_IN, c), channel(block, AUDIO_OUT, c))
    return CONTINUE
