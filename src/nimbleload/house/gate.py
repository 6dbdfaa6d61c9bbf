"""Sluice, a gate: open while the louder channel is above the threshold, and for a while after; else down to the floor.

With `filter` on, the detector hears the signal through a high-pass at 120 Hz (fourth order), so that rumble does not
open it; that costs a little more.
"""

import math

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from .abi import AUDIO_IN, AUDIO_OUT, CONTINUE, F32, channel, memory_of
from .instance import Memory

OPENING_MS = 1.0
FILTER_HZ = 120.0


def memory(values, rate):
    """Settings: threshold and floor (linear), opening and closing factors, filter on, its coefficients."""
    angle = 2 * math.pi * FILTER_HZ / rate
    alpha = math.sin(angle) / (2 * math.sqrt(0.5))
    high_pass = np.array([(1 + math.cos(angle)) / 2, -2 * math.cos(angle), 1 - alpha]) / (1 + alpha)
    settings = np.array([
        10 ** (values["threshold"] / 20),
        10 ** (values["floor"] / 20),
        math.exp(-1000 / (OPENING_MS * rate)),
        math.exp(-1000 / (values["release"] * rate)),
        values["filter"],
        *high_pass,
    ])  # fmt: skip
    state = np.concatenate(([settings[1]], np.zeros(8)))
    return Memory(settings, state, F32.copy(), np.array([round(values["hold"] * rate / 1000), 0]))


@njit(inline="always")
def high_passed(x, state, at, b0, a1, a2):
    """Two equal second-order high-passes in a row, in transposed direct form II."""
    for k in range(at, at + 4, 2):
        y = b0 * x + state[k]
        state[k] = -2 * b0 * x - a1 * y + state[k + 1]
        state[k + 1] = b0 * x - a2 * y
        x = y
    return x


@njit(cache=True)
def gate(settings, state, counters, in_left, in_right, out_left, out_right):
    """One block; `state` holds the gain and the filters' memories, `counters` the hold and what is left of it."""
    threshold, floor, filtered = settings[0], settings[1], settings[4]
    opening, closing = settings[2], settings[3]
    b0, a1, a2 = settings[5], settings[6], settings[7]
    gain, hold, left_open = state[0], counters[0], counters[1]
    for i in range(len(in_left)):
        heard_left, heard_right = np.float64(in_left[i]), np.float64(in_right[i])
        if filtered > 0:
            heard_left = high_passed(heard_left, state, 1, b0, a1, a2)
            heard_right = high_passed(heard_right, state, 5, b0, a1, a2)
        if max(abs(heard_left), abs(heard_right)) >= threshold:
            left_open = hold + 1
        if left_open > 0:
            left_open -= 1
            gain = 1 + opening * (gain - 1)
        else:
            gain = floor + closing * (gain - floor)
        out_left[i], out_right[i] = gain * in_left[i], gain * in_right[i]
    state[0], counters[1] = gain, left_open


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    settings, state, _, counters = memory_of(plugin)
    gate(
        settings, state, counters,
        channel(block, AUDIO_IN, 0), channel(block, AUDIO_IN, 1),
        channel(block, AUDIO_OUT, 0), channel(block, AUDIO_OUT, 1),
    )  # fmt: skip
    return CONTINUE
