"""Vault, a convolution reverb: uniformly partitioned, overlap-save, in the frequency domain.

T. G. Stockham, "High-speed convolution and correlation", 1966; partitioning as in W. G. Gardner, "Efficient
convolution without input-output delay", 1995, without its direct head: input is gathered for one partition, and then
all the work is done at once. So most blocks cost nearly nothing and every (partition / buffer)-th one costs it all;
the wait is the reverb's latency. Left and right go through as one complex signal, since the room is the same for both.
Partitions in which nothing sounded are skipped, so the reverb rests when its room has died away.
"""

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from .abi import AUDIO_IN, AUDIO_OUT, CONTINUE, channel, memory_of
from .fourier import transform, twiddles
from .instance import Memory


def room(seconds, rate):
    """The impulse response: seeded noise that falls by 60 dB in `seconds` (float64, unit energy)."""
    time = np.arange(max(int(seconds * rate), 1)) / rate
    noise = np.random.default_rng(4711).standard_normal(len(time))
    response = noise * 10 ** (-3 * time / seconds)
    return response / np.sqrt(np.sum(response**2))


def memory(values, rate):
    """Samples, one after the other, with P the partition and K their count: factors 2(2P − 1); room K × 2 × 2P;
    heard K × 2 × 2P; gathered input 2 × 2P; ready output 2 × P; work 4 × 2P. Counters: P, K, gathered, newest, then
    a flag for each partition that something sounded in it."""
    size = 2 ** round(np.log2(values["partition"]))
    response = room(values["seconds"], rate)
    count = -(-len(response) // size)
    padded = np.zeros((count, 2 * size))
    padded[:, :size] = np.pad(response, (0, count * size - len(response))).reshape(count, size)
    spectra = np.fft.fft(padded, axis=1)
    stacked = np.stack((spectra.real, spectra.imag), axis=1).astype(np.float32)
    rest = np.zeros(stacked.size + 4 * size + 2 * size + 8 * size, np.float32)
    samples = np.concatenate((twiddles(2 * size), stacked.ravel(), rest))
    counters = np.zeros(4 + count, np.int64)
    counters[:2] = size, count
    return Memory(np.array([values["wet"]]), np.zeros(0), samples, counters, size)


@njit(cache=True, fastmath=True)
def convolve_partition(size, count, newest, heard_flags, factors, spectra, heard, gathered, ready, work):
    """Transforms the last two partitions of input, sums all products, and leaves one partition of output in `ready`."""
    double = 2 * size
    sounded = False
    for x in gathered:
        sounded = sounded or x != 0
    heard_flags[newest] = sounded
    real, imag = heard[2 * newest * double : (2 * newest + 1) * double], heard[(2 * newest + 1) * double :][:double]
    if sounded:
        real[:] = gathered[:double]
        imag[:] = gathered[double : 2 * double]
        transform(real, imag, factors)
    total_r, total_i = work[:double], work[double : 2 * double]
    total_r[:] = 0
    total_i[:] = 0
    any_left = False
    for p in range(count):
        slot = newest - p if newest >= p else newest - p + count
        if not heard_flags[slot]:
            continue
        any_left = True
        x_r, x_i = heard[2 * slot * double :][:double], heard[(2 * slot + 1) * double :][:double]
        h_r, h_i = spectra[2 * p * double :][:double], spectra[(2 * p + 1) * double :][:double]
        for k in range(double):
            total_r[k] += x_r[k] * h_r[k] - x_i[k] * h_i[k]
            total_i[k] += x_r[k] * h_i[k] + x_i[k] * h_r[k]
    if not any_left:
        ready[:] = 0
        return
    transform(total_i, total_r, factors)
    for k in range(size):
        ready[k] = total_r[size + k] / np.float32(double)
        ready[size + k] = total_i[size + k] / np.float32(double)


@njit(cache=True)
def convolve(wet, samples, counters, in_left, in_right, out_left, out_right):
    """One block: gathers input, hands out what is ready, and does a partition's work whenever one is full."""
    size, count = counters[0], counters[1]
    double = 2 * size
    spectra_at = 2 * (double - 1)
    heard_at = spectra_at + count * 2 * double
    gathered_at = heard_at + count * 2 * double
    ready_at = gathered_at + 2 * double
    gathered, ready = samples[gathered_at:ready_at], samples[ready_at : ready_at + double]
    for i in range(len(in_left)):
        at = counters[2]
        left, right = in_left[i], in_right[i]
        dry_left, dry_right = gathered[at], gathered[double + at]
        gathered[size + at], gathered[double + size + at] = left, right
        out_left[i] = (1 - wet) * dry_left + wet * ready[at]
        out_right[i] = (1 - wet) * dry_right + wet * ready[size + at]
        counters[2] += 1
        if counters[2] == size:
            counters[2] = 0
            convolve_partition(
                size, count, counters[3], counters[4:], samples[:spectra_at], samples[spectra_at:heard_at],
                samples[heard_at:gathered_at], gathered, ready, samples[ready_at + double :],
            )  # fmt: skip
            counters[3] = (counters[3] + 1) % count
            for c in range(2):
                gathered[c * double : c * double + size] = gathered[c * double + size : (c + 1) * double]


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    settings, _, samples, counters = memory_of(plugin)
    convolve(
        np.float32(settings[0]), samples, counters,
        channel(block, AUDIO_IN, 0), channel(block, AUDIO_IN, 1),
        channel(block, AUDIO_OUT, 0), channel(block, AUDIO_OUT, 1),
    )  # fmt: skip
    return CONTINUE
