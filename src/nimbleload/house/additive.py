"""Pipework, an additive synthesizer: each voice a sum of sines at whole multiples of its pitch, partial h at 1/h.

Each sine is a point that is turned by a fixed angle every sample (the coupled form), scaled back to its length once a
block. Partials above 0.45 of the rate are left out.
"""

import math

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from . import voices as v_
from .abi import AUDIO_OUT, CONTINUE, channel, event_at, event_count, frames_of, memory_of
from .instance import Memory

ATTACK_MS = 4.0
LEVEL = 0.1


def memory(values, rate):
    """Settings: attack and release factors, rate; state: a loudness a voice; samples: per voice and partial the
    point (x, y) and the turn (cosine, sine); counters: voices, partials, then the voices' fields."""
    voices, partials = int(values["voices"]), int(values["partials"])
    settings = np.array([math.exp(-1000 / (ATTACK_MS * rate)), math.exp(-1000 / (values["release"] * rate)), rate])
    counters = np.concatenate(([voices, partials], v_.free(voices)))
    return Memory(settings, np.zeros(voices), np.zeros(4 * voices * partials, np.float32), counters)


def frequency(key):
    """Equal temperament, A above middle C (key 69) at 440 Hz."""
    return 440.0 * 2.0 ** ((key - 69) / 12)


_frequency = njit(cache=True)(frequency)


@njit(cache=True)
def start(own, partials, key, rate):
    """Sets the points and turns of one voice."""
    for h in range(partials):
        heard = (h + 1) * _frequency(key) < 0.45 * rate
        angle = 2 * math.pi * (h + 1) * _frequency(key) / rate
        own[h] = 1 / (h + 1) if heard else 0
        own[partials + h] = 0
        own[2 * partials + h] = math.cos(angle)
        own[3 * partials + h] = math.sin(angle)


@njit(cache=True, fastmath=True)
def sound(own, partials, loudness, toward, factor, left, right):
    """Adds one voice to both channels; returns its loudness after."""
    x, y = own[:partials], own[partials : 2 * partials]
    cosine, sine = own[2 * partials : 3 * partials], own[3 * partials : 4 * partials]
    for i in range(len(left)):
        total = np.float32(0)
        for h in range(partials):
            a, b = x[h], y[h]
            x[h] = a * cosine[h] - b * sine[h]
            y[h] = a * sine[h] + b * cosine[h]
            total += y[h]
        loudness = toward + factor * (loudness - toward)
        value = np.float32(LEVEL * loudness) * total
        left[i] += value
        right[i] += value
    for h in range(partials):
        length = math.hypot(x[h], y[h])
        if length > 0:
            scale = np.float32(1 / ((h + 1) * length))
            x[h] *= scale
            y[h] *= scale
    return loudness


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    settings, state, samples, counters = memory_of(plugin)
    voices, partials = counters[0], counters[1]
    fields = counters[2:]
    left, right = channel(block, AUDIO_OUT, 0), channel(block, AUDIO_OUT, 1)
    left[:] = 0
    right[:] = 0
    frames, done = frames_of(block), 0
    events = event_count(block)
    for e in range(events + 1):
        until = frames
        if e < events:
            kind, until, key = event_at(block, e)
        for v in range(voices):
            if fields[v_.FIELDS * v + v_.KEY] < 0 or until <= done:
                continue
            held = fields[v_.FIELDS * v + v_.HELD] != 0
            own = samples[4 * partials * v : 4 * partials * (v + 1)]
            toward, factor = (1.0, settings[0]) if held else (0.0, settings[1])
            state[v] = sound(own, partials, state[v], toward, factor, left[done:until], right[done:until])
            if not held and state[v] < v_.SILENCE:
                fields[v_.FIELDS * v + v_.KEY] = -1
        done = max(done, until)
        if e < events:
            begun = v_.note(fields, voices, kind, key)
            if begun >= 0:
                state[begun] = 0.0
                start(samples[4 * partials * begun : 4 * partials * (begun + 1)], partials, key, settings[2])
    return CONTINUE
