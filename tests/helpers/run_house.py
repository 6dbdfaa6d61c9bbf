"""Runs a house processor as any host would: by its address, block by block."""

from __future__ import annotations

import numpy as np

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe.formats import house
from nimbleload.probe.formats.hosted import Note
from nimbleload.probe.timed import TimedLoop

RATE = 48000


def load(name: str, rate: int = RATE, **values: float):
    plugin = PluginRef("house", f"house.{name}")
    return house.load(PluginUse("x", plugin, Setting(tuple(values.items()))), rate, 4096)


def run(hosted, signal: np.ndarray, frames: int = 256, notes: tuple[Note, ...] = ()) -> np.ndarray:
    """The output (2, N) for an input (2, N), N cut to whole blocks."""
    blocks = signal.shape[1] // frames
    out = np.zeros((2, blocks * frames), np.float32)
    for k in range(blocks):
        piece = signal[:, k * frames : (k + 1) * frames]
        loop = TimedLoop(hosted, piece.astype(np.float32))
        loop.run(frames, 1, notes if k == 0 else ())
        out[:, k * frames : (k + 1) * frames] = hosted.outputs[:, :frames]
    return out


def noise(count: int, level: float = 0.1, seed: int = 1) -> np.ndarray:
    return (level * np.random.default_rng(seed).standard_normal((2, count))).astype(np.float32)


def impulse(count: int) -> np.ndarray:
    signal = np.zeros((2, count), np.float32)
    signal[:, 0] = 1.0
    return signal


def sine(frequency: float, count: int, level: float = 0.5) -> np.ndarray:
    wave = level * np.sin(2 * np.pi * frequency * np.arange(count) / RATE)
    return np.stack((wave, wave)).astype(np.float32)
