"""What a plugin is fed while it is measured: always the same, at a level as in a mix."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from .formats.hosted import Note

RMS = 10 ** (-18 / 20)
# Work that comes in bursts comes at least once in so many samples: what is timed are whole cycles of them.
CYCLE = 8192
# Instruments begin their chord anew every so many samples, about twice a second: what is plucked or struck would be
# measured as silence if it were played once. A whole number of cycles.
CHORD_CYCLE = 3 * CYCLE


def blocks_in_cycle(frames: int, notes: tuple[Note, ...] = ()) -> int:
    """How many blocks of so many samples a whole cycle has; with notes, that of their chord."""
    return max((CHORD_CYCLE if notes else CYCLE) // frames, 1)


def musical(channels: int, rate: int, seconds: float = 4.0) -> NDArray[np.float32]:
    """Noise that falls with frequency like music does, and plucked chords over it (channels, N, float32).

    The level is −18 dBFS RMS; the length is a multiple of 8192, so that blocks come out even. Seeded.
    """
    return _musical(max(channels, 1), rate, seconds).copy()


@lru_cache(8)
def _musical(channels: int, rate: int, seconds: float) -> NDArray[np.float32]:
    count = max(int(seconds * rate) // CYCLE, 1) * CYCLE
    rng = np.random.default_rng(20)
    time = np.arange(count) / rate
    bins = np.fft.rfftfreq(count, 1 / rate)
    slope = 1 / np.sqrt(np.maximum(bins, 40))
    rows = []
    for channel in range(channels):
        spectrum = slope * (rng.standard_normal(len(bins)) + 1j * rng.standard_normal(len(bins)))
        noise = np.fft.irfft(spectrum, count)
        since = time % 0.5
        chord = sum(np.sin(2 * np.pi * f * (time + 0.1 * channel)) for f in (110.0, 164.8, 220.0, 277.2, 554.4))
        row = noise / noise.std() + 1.5 * chord * np.exp(-6 * since) * np.minimum(since / 0.005, 1)
        rows.append(row * RMS / np.sqrt(np.mean(row**2)))
    return np.array(rows, np.float32)


def chord(voices: int) -> tuple[Note, ...]:
    """So many notes that start together, none twice; ValueError for more than there are from key 24 to 108."""
    if voices > 85:
        raise ValueError(f"a chord has at most 85 voices, not {voices}")
    steps = (0, 4, 7, 11, 14, 17, 21)
    keys: list[int] = []
    for k in range(voices):
        key = 36 + steps[k % 7] + 24 * (k // 7)
        while key in keys or key > 108:
            key = key + 1 if key < 108 else 24
        keys.append(key)
    return tuple(Note(key, True) for key in keys)


def released(notes: tuple[Note, ...]) -> tuple[Note, ...]:
    """The ends of these notes."""
    return tuple(Note(note.key, False) for note in notes)


def again(notes: tuple[Note, ...]) -> tuple[Note, ...]:
    """A chord that ends and begins at once: as many notes are held as before."""
    return (*released(notes), *notes)
