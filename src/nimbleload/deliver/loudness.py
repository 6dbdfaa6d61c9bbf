"""How loud a sound is as a whole: integrated loudness after ITU-R BS.1770-4, as EBU R 128 asks, stretch by stretch.

(Libraries that do this want the whole sound in memory; a piece of any length goes through here.)
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

# The weighting of frequencies, as the analogue filters behind the coefficients that the standard gives for 48 kHz: a
# shelf that rises towards the highs (Hz, dB, Q), and a filter that takes the lows away (Hz, Q).
SHELF_HZ, SHELF_DB, SHELF_Q, SHELF_MIDDLE = 1681.974450955533, 3.999843853973347, 0.7071752369554196, 0.4996667741545416
LOW_HZ, LOW_Q = 38.13547087602444, 0.5003270373238773
# Blocks of 400 ms, one beginning in each tenth of a second; softer ones than these do not count.
STEP_SECONDS, STEPS = 0.1, 4
SILENT_LUFS, SOFTER_LU, OFFSET = -70.0, -10.0, -0.691


def weighting(rate: int) -> NDArray[np.float64]:
    """The weighting filter at a sample rate in hertz, as second-order sections (2, 6)."""
    k = np.tan(np.pi * SHELF_HZ / rate)
    high = 10 ** (SHELF_DB / 20)
    middle = high**SHELF_MIDDLE
    all_of = 1 + k / SHELF_Q + k * k
    shelf = [
        (high + middle * k / SHELF_Q + k * k) / all_of, 2 * (k * k - high) / all_of,
        (high - middle * k / SHELF_Q + k * k) / all_of, 1.0, 2 * (k * k - 1) / all_of,
        (1 - k / SHELF_Q + k * k) / all_of,
    ]  # fmt: skip
    k = np.tan(np.pi * LOW_HZ / rate)
    all_of = 1 + k / LOW_Q + k * k
    low = [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / all_of, (1 - k / LOW_Q + k * k) / all_of]
    return np.array([shelf, low])


class Loudness:
    """The loudness of what `add` is given, one stretch after the other, at a sample rate in hertz."""

    def __init__(self, rate: int, channels: int = 2) -> None:
        self._sections = weighting(rate)
        self._state = np.zeros((len(self._sections), 2, channels))
        self._step = round(STEP_SECONDS * rate)
        self._begun = np.zeros(0)
        self._energies: list[NDArray[np.float64]] = []

    def add(self, sound: NDArray[np.float32]) -> None:
        """The next stretch (n, channels); all channels count alike, as those of stereo do."""
        from scipy.signal import sosfilt  # imported here: it would lengthen every start by more than a second

        if not len(sound):
            return
        weighted, self._state = sosfilt(self._sections, np.asarray(sound, np.float64), axis=0, zi=self._state)
        energy = np.concatenate((self._begun, np.einsum("nc,nc->n", weighted, weighted)))
        whole = len(energy) // self._step * self._step
        self._energies.append(energy[:whole].reshape(-1, self._step).mean(axis=1))
        self._begun = energy[whole:]

    @property
    def integrated(self) -> float:
        """The loudness of all of it in LUFS; −∞ where nothing is louder than −70, or it is shorter than 0.4 s."""
        steps = np.concatenate(self._energies) if self._energies else np.zeros(0)
        if len(steps) < STEPS:
            return -np.inf
        blocks = np.lib.stride_tricks.sliding_window_view(steps, STEPS).mean(axis=1)
        heard = blocks[blocks > _energy(SILENT_LUFS)]
        if not len(heard):
            return -np.inf
        loud = heard[heard > heard.mean() * 10 ** (SOFTER_LU / 10)]
        return float(OFFSET + 10 * np.log10(loud.mean()))


def _energy(lufs: float) -> float:
    return float(10 ** ((lufs - OFFSET) / 10))


def integrated(stretches: Iterable[NDArray[np.float32]], rate: int, channels: int = 2) -> float:
    """The loudness of stretches (n, channels each) as one sound, in LUFS; see `Loudness.integrated`."""
    found = Loudness(rate, channels)
    for each in stretches:
        found.add(each)
    return found.integrated
