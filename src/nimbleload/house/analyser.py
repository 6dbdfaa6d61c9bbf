"""Sounder, a spectrum analyser: passes its input on untouched, and transforms the last stretch of it in every block.

The work is the same whatever the block's length, as in many meters: at small buffers they are dear. The window is
Hann's; the levels fall slowly, for the eye. Nobody need be looking.
"""

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from .abi import AUDIO_IN, AUDIO_OUT, CONTINUE, channel, memory_of
from .fourier import transform, twiddles
from .instance import Memory

FALL = np.float32(0.9)


def memory(values, rate):
    """Samples, one after the other, with N the points: factors 2(N − 1); window N; heard N; work 2N; levels N / 2.
    Counters: N, and the place in `heard` that comes next."""
    size = 2 ** round(np.log2(values["points"]))
    window = (0.5 - 0.5 * np.cos(2 * np.pi * np.arange(size) / size)).astype(np.float32)
    rest = np.zeros(size + 2 * size + size // 2, np.float32)
    samples = np.concatenate((twiddles(size), window, rest))
    return Memory(np.zeros(0), np.zeros(0), samples, np.array([size, 0], np.int64))


@njit(cache=True, fastmath=True)
def analyse(samples, counters, in_left, in_right, out_left, out_right):
    """One block: passes it on, keeps its middle, and looks at the last N samples."""
    size, at = counters[0], counters[1]
    factors_end = 2 * (size - 1)
    window = samples[factors_end : factors_end + size]
    heard = samples[factors_end + size : factors_end + 2 * size]
    real = samples[factors_end + 2 * size : factors_end + 3 * size]
    imag = samples[factors_end + 3 * size : factors_end + 4 * size]
    levels = samples[factors_end + 4 * size :]
    for i in range(len(in_left)):
        out_left[i], out_right[i] = in_left[i], in_right[i]
        heard[at] = np.float32(0.5) * (in_left[i] + in_right[i])
        at += 1
        if at == size:
            at = 0
    counters[1] = at
    for k in range(size):
        place = at + k if at + k < size else at + k - size
        real[k] = heard[place] * window[k]
        imag[k] = 0
    transform(real, imag, samples[:factors_end])
    for k in range(size // 2):
        levels[k] = max(real[k] * real[k] + imag[k] * imag[k], FALL * levels[k])


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    _, _, samples, counters = memory_of(plugin)
    analyse(
        samples, counters,
        channel(block, AUDIO_IN, 0), channel(block, AUDIO_IN, 1),
        channel(block, AUDIO_OUT, 0), channel(block, AUDIO_OUT, 1),
    )  # fmt: skip
    return CONTINUE
