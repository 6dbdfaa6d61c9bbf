"""Mist, an algorithmic reverb: a feedback network of delay lines, mixed by a Hadamard matrix.

M. Puckette and J. Stautner, "Designing multi-channel reverberators", 1982; J.-M. Jot, "Digital delay networks for
designing artificial reverberators", 1991: each line's gain is set so that all of them fall by 60 dB in one time, and a
one-pole low-pass in each makes the high end die sooner. `motion` lets the lines' lengths sway, which blurs the echoes
and costs a second read of every line.
"""

import math

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from .abi import AUDIO_IN, AUDIO_OUT, CONTINUE, channel, memory_of
from .instance import Memory

LONGEST_MS, SHORTEST_MS = 83.0, 23.0
SWAY_SAMPLES, SWAY_HZ = 12.0, 0.7


def lengths(lines, rate):
    """The delay lines' lengths in samples: spread evenly over the octaves and made odd, so that few echoes meet."""
    spread = np.geomspace(SHORTEST_MS, LONGEST_MS, lines) * rate / 1000
    return np.round(spread).astype(np.int64) | 1


def memory(values, rate):
    """Settings: wet, damping, motion, sway's step, then a gain a line; state: a low-pass a line, sway's phase;
    samples: the lines, each with room to sway; counters: how many, then length, start and write place of each."""
    lines = 2 ** round(np.log2(values["lines"]))
    wait = lengths(lines, rate)
    gains = 10 ** (-3 * wait / (values["seconds"] * rate))
    room = wait + int(SWAY_SAMPLES) + 2
    starts = np.concatenate(([0], np.cumsum(room)))
    settings = np.concatenate(([values["wet"], values["damping"], values["motion"], 2 * np.pi * SWAY_HZ / rate], gains))
    counters = np.concatenate(([lines], wait, starts, np.zeros(lines, np.int64))).astype(np.int64)
    return Memory(settings, np.zeros(2 * lines + 1), np.zeros(starts[-1], np.float32), counters)


@njit(inline="always")
def mix(values, lines):
    """Multiplies by the orthonormal Hadamard matrix, in place (fast Walsh–Hadamard transform)."""
    step = 1
    while step < lines:
        for start in range(0, lines, 2 * step):
            for k in range(start, start + step):
                a, b = values[k], values[k + step]
                values[k], values[k + step] = a + b, a - b
        step *= 2
    scale = 1 / math.sqrt(lines)
    for k in range(lines):
        values[k] *= scale


@njit(cache=True)
def reverberate(settings, state, samples, counters, in_left, in_right, out_left, out_right):
    """One block. Even lines hear the left channel and make the left output, odd ones the right."""
    lines = counters[0]
    wait, starts, places = counters[1 : 1 + lines], counters[1 + lines :], counters[2 + 2 * lines :]
    wet, damping, motion, step = settings[0], settings[1], settings[2], settings[3]
    gains = settings[4:]
    low, taken, phase = state[:lines], state[lines : 2 * lines], state[2 * lines]
    for i in range(len(in_left)):
        left, right = np.float64(in_left[i]), np.float64(in_right[i])
        wet_left, wet_right = 0.0, 0.0
        sway = SWAY_SAMPLES / 2 * (1 + math.sin(phase)) if motion > 0 else 0.0
        whole = int(sway)
        part = sway - whole
        for k in range(lines):
            room = starts[k + 1] - starts[k]
            at = places[k] - wait[k] - whole
            if at < 0:
                at += room
            value = np.float64(samples[starts[k] + at])
            if motion > 0:
                before = at - 1 if at > 0 else room - 1
                value += part * (samples[starts[k] + before] - value)
            low[k] = (1 - damping) * value + damping * low[k]
            taken[k] = low[k] * gains[k]
            if k & 1:
                wet_right += low[k]
            else:
                wet_left += low[k]
        mix(taken, lines)
        for k in range(lines):
            room = starts[k + 1] - starts[k]
            samples[starts[k] + places[k]] = taken[k] + (right if k & 1 else left)
            places[k] = places[k] + 1 if places[k] + 1 < room else 0
        if motion > 0:
            phase += step
            if phase > 2 * math.pi:
                phase -= 2 * math.pi
        out_left[i] = (1 - wet) * left + wet * wet_left / math.sqrt(lines)
        out_right[i] = (1 - wet) * right + wet * wet_right / math.sqrt(lines)
    state[2 * lines] = phase


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    settings, state, samples, counters = memory_of(plugin)
    reverberate(
        settings, state, samples, counters,
        channel(block, AUDIO_IN, 0), channel(block, AUDIO_IN, 1),
        channel(block, AUDIO_OUT, 0), channel(block, AUDIO_OUT, 1),
    )  # fmt: skip
    return CONTINUE
