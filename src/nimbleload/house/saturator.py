"""Tar, a saturator: tanh of the driven signal, at 1 to 8 times the rate so that its overtones do not fold back.

Up and down by polyphase windowed-sinc low-passes of 32 taps a phase. It rests when its input has been silent for
longer than its filters remember.
"""

import math

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from .abi import AUDIO_IN, AUDIO_OUT, CONTINUE, channel, memory_of
from .instance import Memory

TAPS = 32


def memory(values, rate):
    """Samples: the low-pass by phase (TAPS × factor), then per channel two doubled rings: its input, its upsampled."""
    factor = int(values["oversampling"])
    drive = np.array([10 ** (values["drive"] / 20)])
    counters = np.array([factor, 0, 0, 0, 0, 0])
    if factor == 1:
        return Memory(drive, np.zeros(0), np.zeros(1, np.float32), counters)
    # An odd length has a whole delay at the high rate: half of TAPS × factor each way.
    low_pass = windowed_sinc(TAPS * factor + 1, 0.9 / factor)[:-1]
    samples = np.concatenate((low_pass, np.zeros(2 * ring_size(factor)))).astype(np.float32)
    return Memory(drive, np.zeros(0), samples, counters, TAPS)


def windowed_sinc(length, cutoff):
    """A low-pass of so many taps (odd; float64) with gain 1 at 0 Hz, by a Kaiser window (β = 8). `cutoff` is a share of
    half the rate (0 … 1)."""
    # SciPy has the same, but its signal package takes each process that loads this more than a second to import.
    sinc = np.sinc(cutoff * (np.arange(length) - length // 2)) * np.kaiser(length, 8.0)
    return sinc / sinc.sum()


@njit(cache=True, inline="always")
def ring_size(factor):
    """Floats that one channel remembers: each ring is kept twice, so that its newest stretch lies in one piece."""
    return 2 * TAPS + 2 * (TAPS + 1) * factor


@njit(cache=True, fastmath=True)
def saturate(drive, factor, low_pass, rings, at, source, target):
    """One channel of one block. `at` (2) holds where the newest value of each ring is; both are carried on."""
    up_size = (TAPS + 1) * factor
    past, above = rings[: 2 * TAPS], rings[2 * TAPS :]
    newest, newest_above = at[0], at[1]
    for i in range(len(source)):
        newest = TAPS - 1 if newest == 0 else newest - 1
        past[newest] = past[newest + TAPS] = source[i] * drive
        newest_above = up_size - factor if newest_above == 0 else newest_above - factor
        for phase in range(factor):
            total = np.float32(0)
            for k in range(TAPS):
                total += low_pass[k * factor + phase] * past[newest + k]
            bent = math.tanh(total * np.float32(factor))
            slot = newest_above + factor - 1 - phase
            above[slot] = above[slot + up_size] = bent
        total = np.float32(0)
        first = newest_above + factor - 1
        for k in range(TAPS * factor):
            total += low_pass[k] * above[first + k]
        target[i] = total / drive
    at[0], at[1] = newest, newest_above


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    settings, _, samples, counters = memory_of(plugin)
    drive, factor = np.float32(settings[0]), counters[0]
    silent = True
    for c in range(2):
        for x in channel(block, AUDIO_IN, c):
            silent = silent and x == 0
    counters[1] = counters[1] + len(channel(block, AUDIO_IN, 0)) if silent else 0
    length = TAPS * factor
    for c in range(2):
        source, target = channel(block, AUDIO_IN, c), channel(block, AUDIO_OUT, c)
        if counters[1] > 4 * TAPS + len(source):
            target[:] = 0
        elif factor == 1:
            for i in range(len(source)):
                target[i] = math.tanh(source[i] * drive) / drive
        else:
            first = length + c * ring_size(factor)
            rings = samples[first : first + ring_size(factor)]
            saturate(drive, factor, samples[:length], rings, counters[2 + 2 * c : 4 + 2 * c], source, target)
    return CONTINUE
