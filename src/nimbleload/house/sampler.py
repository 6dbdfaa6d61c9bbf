"""Cask, a sampler: one recorded tone, read faster or slower for other pitches, between samples by one of two ways.

Quality 0 reads on a straight line between two samples. Quality 1 weighs 32 neighbours by a windowed sinc, whose
values for 512 places between two samples stand in a table (J. O. Smith, "Digital Audio Resampling", 1984).
The recording is made by code and loops without a seam.
"""

import math

import numpy as np
from numba import cfunc, njit

from ..native.memory import PROCESS
from . import voices as v_
from .abi import AUDIO_OUT, CONTINUE, channel, event_at, event_count, frames_of, memory_of
from .additive import ATTACK_MS, LEVEL, _frequency
from .instance import Memory

NEIGHBOURS, PLACES = 32, 512
RECORDED_HZ, RECORDED_SECONDS = 200, 2


def recording(partials, rate):
    """Whole periods of a tone of 200 Hz with partial h at 1/h (float64), so that the end joins the start."""
    time = np.arange(RECORDED_SECONDS * rate) / rate
    return sum(np.sin(2 * np.pi * RECORDED_HZ * h * time) / h for h in range(1, partials + 1))


def sinc_table():
    """Weights (PLACES + 1, NEIGHBOURS) of the samples −15 … +16 around each place, Kaiser-windowed, summing to 1."""
    offset = np.arange(NEIGHBOURS) - (NEIGHBOURS // 2 - 1) - np.arange(PLACES + 1)[:, None] / PLACES
    inside = np.clip(1 - (offset / (NEIGHBOURS / 2)) ** 2, 0, None)
    weights = np.sinc(offset) * np.i0(9.0 * np.sqrt(inside)) / np.i0(9.0)
    return weights / weights.sum(axis=1, keepdims=True)


def memory(values, rate):
    """Settings: attack and release factors, rate; state: loudness and read place a voice; samples: the sinc table, then
    the recording with its own start after its end; counters: voices, quality, recorded length, the voices' fields."""
    voices = int(values["voices"])
    settings = np.array([math.exp(-1000 / (ATTACK_MS * rate)), math.exp(-1000 / (values["release"] * rate)), rate])
    tone = recording(int(values["partials"]), rate)
    wrapped = np.concatenate((tone[-NEIGHBOURS:], tone, tone[:NEIGHBOURS]))
    samples = np.concatenate((sinc_table().ravel(), wrapped)).astype(np.float32)
    counters = np.concatenate(([voices, int(values["quality"]), len(tone)], v_.free(voices)))
    return Memory(settings, np.zeros(2 * voices), samples, counters)


@njit(cache=True, fastmath=True)
def play(table, tone, length, quality, place, speed, loudness, toward, factor, left, right):
    """Adds one voice to both channels; returns its read place and loudness after."""
    for i in range(len(left)):
        whole = int(place)
        part = place - whole
        at = whole + NEIGHBOURS
        if quality == 0:
            value = tone[at] + np.float32(part) * (tone[at + 1] - tone[at])
        else:
            row = int(part * PLACES + 0.5) * NEIGHBOURS
            value = np.float32(0)
            for k in range(NEIGHBOURS):
                value += table[row + k] * tone[at - (NEIGHBOURS // 2 - 1) + k]
        loudness = toward + factor * (loudness - toward)
        value *= np.float32(LEVEL * loudness)
        left[i] += value
        right[i] += value
        place += speed
        if place >= length:
            place -= length
    return place, loudness


@cfunc(PROCESS, cache=True)
def process(plugin, block):
    """One block: the addresses of the plugin and of its `clap_process`; what that standard wants back."""
    settings, state, samples, counters = memory_of(plugin)
    voices, quality, length = counters[0], counters[1], counters[2]
    fields = counters[3:]
    table = samples[: (PLACES + 1) * NEIGHBOURS]
    tone = samples[(PLACES + 1) * NEIGHBOURS :]
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
            sounding = fields[v_.FIELDS * v + v_.KEY]
            if sounding < 0 or until <= done:
                continue
            held = fields[v_.FIELDS * v + v_.HELD] != 0
            toward, factor = (1.0, settings[0]) if held else (0.0, settings[1])
            speed = _frequency(sounding) / RECORDED_HZ
            state[2 * v], state[2 * v + 1] = play(
                table, tone, length, quality, state[2 * v], speed, state[2 * v + 1], toward, factor,
                left[done:until], right[done:until],
            )  # fmt: skip
            if not held and state[2 * v + 1] < v_.SILENCE:
                fields[v_.FIELDS * v + v_.KEY] = -1
        done = max(done, until)
        if e < events:
            begun = v_.note(fields, voices, kind, key)
            if begun >= 0:
                state[2 * begun], state[2 * begun + 1] = 0.0, 0.0
    return CONTINUE
