"""Ballast, a compressor: feed-forward, both channels by the louder one, with look-ahead.

The gain follows the level in decibels: above the threshold the output rises by 1/ratio of what the input does
(D. Giannoulis, M. Massberg, J. Reiss, "Digital Dynamic Range Compressor Design", 2012: smooth, decoupled, log domain).
The audio waits `lookahead`, the detector does not, so the gain is there before the peak; that wait is its latency.
"""

import math

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from .abi import AUDIO_IN, AUDIO_OUT, CONTINUE, channel, memory_of
from .instance import Memory


def memory(values, rate):
    """Settings: threshold, slope, attack and release factors, make-up; the audio's delay line, left then right."""
    wait = round(values["lookahead"] * rate / 1000)
    settings = np.array([
        values["threshold"],
        1 - 1 / values["ratio"],
        math.exp(-1000 / (values["attack"] * rate)),
        math.exp(-1000 / (values["release"] * rate)),
        values["makeup"],
    ])  # fmt: skip
    return Memory(settings, np.zeros(2), np.zeros(2 * max(wait, 1), np.float32), np.array([wait, 0]), wait)


@njit(cache=True)
def compress(settings, state, line, counters, in_left, in_right, out_left, out_right):
    """One block; `state` holds the peak follower's and the gain's level in dB of reduction."""
    threshold, slope, makeup = settings[0], settings[1], settings[4]
    attack, release = settings[2], settings[3]
    wait, at = counters[0], counters[1]
    held, smooth = state[0], state[1]
    for i in range(len(in_left)):
        left, right = in_left[i], in_right[i]
        level = 20 * math.log10(max(abs(left), abs(right), np.float32(1e-6)))
        wanted = max(level - threshold, 0.0) * slope
        held = max(wanted, release * held + (1 - release) * wanted)
        smooth = attack * smooth + (1 - attack) * held
        gain = 10 ** ((makeup - smooth) / 20)
        if wait > 0:
            delayed_left, delayed_right = line[at], line[wait + at]
            line[at], line[wait + at] = left, right
            at = at + 1 if at + 1 < wait else 0
            left, right = delayed_left, delayed_right
        out_left[i], out_right[i] = gain * left, gain * right
    state[0], state[1], counters[1] = held, smooth, at


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    settings, state, line, counters = memory_of(plugin)
    compress(
        settings, state, line, counters,
        channel(block, AUDIO_IN, 0), channel(block, AUDIO_IN, 1),
        channel(block, AUDIO_OUT, 0), channel(block, AUDIO_OUT, 1),
    )  # fmt: skip
    return CONTINUE
