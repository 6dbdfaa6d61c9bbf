"""Whether a plugin keeps to what it says: its latency, the same sound at any block size, finite numbers, an effect."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..core.cards.card import Truth
from .formats.hosted import Note
from .timed import TimedLoop

SMALL, LARGE = 64, 512
SAMPLES = 24576
# Cross-correlation says where the input went only if this much of it is found there.
CLEAR = 0.5
IDLE_DB = -100.0
DEEPEST_DB = -200.0
SOFT = np.float32(0.01)
# 10 dB softer.
PANNED = 10 ** (-10 / 20)


def find_truth(loop: TimedLoop, notes: tuple[Note, ...] = ()) -> Truth:
    """Runs the same half second at two block sizes, and at one of them twice, each from a fresh state."""

    def run(frames: int) -> NDArray[np.float32]:
        loop.refresh(frames)
        return loop.capture(frames, SAMPLES // frames, notes)

    small, large, again = run(SMALL), run(LARGE), run(LARGE)
    if not all(np.isfinite(out).all() for out in (small, large, again)):
        return Truth(finite=False)
    if not np.any(small):
        return Truth(silent=True)
    # A plugin that never sounds the same twice (a free oscillator, noise) cannot be judged by its block sizes.
    repeatable = null_depth(large, again) <= -80
    source = loop.source[:, :SAMPLES]
    latency = None if notes else true_latency(source[0], small[0])
    return Truth(
        latency=latency,
        null_db=null_depth(small, large) if repeatable else None,
        idle=latency is not None and _is_idle(source, small, latency),
        hot_peak=None if notes else _hot_peak(loop),
        linear_db=_linear_db(loop) if repeatable and not notes else None,
        pan_db=_pan_db(loop) if repeatable and not notes else None,
        ride_db=_ride_db(loop, latency or 0) if repeatable and not notes else None,
    )


def _linear_db(loop: TimedLoop) -> float:
    """Superposition: what is left of f(a + b) when f(a) and f(b) are taken away, in dB of it; the worse of two tests.

    Once with both alike and their sum as loud as may be, for what bends at the top; once with the second 40 dB softer,
    for what treats soft sounds in another way. What the plugin puts out by itself counts once, as in one instance.
    """
    heard = loop.source[:, :SAMPLES]
    other = np.roll(heard, heard.shape[1] // 3, axis=1)
    loudest = 1 / max(float(np.abs(heard + other).max()), 1e-9)

    by_itself = _captured(loop, np.zeros_like(heard))
    depths = []
    for one, two in ((loudest * heard, loudest * other), (heard, SOFT * other)):
        together, apart = _captured(loop, one + two), _captured(loop, one) + _captured(loop, two) - by_itself
        depths.append(null_depth(together, apart))
    return max(depths)


def _pan_db(loop: TimedLoop) -> float | None:
    """What is left of f(p · x) when p · f(x) is taken away, in dB of it, with p 10 dB softer on the second channel.

    None for a plugin that has not as many outputs as inputs, two at least.
    """
    heard = loop.source[:, :SAMPLES]
    out = _captured(loop, heard)
    if heard.shape[0] < 2 or out.shape[0] != heard.shape[0]:
        return None
    pan = np.where(np.arange(len(heard)) % 2 == 1, PANNED, 1.0)[:, None]
    return null_depth(_captured(loop, pan * heard), pan * out)


def _ride_db(loop: TimedLoop, latency: int) -> float:
    """What is left of f(g · x) when g · f(x) is taken away, in dB of it, with g a fader that glides up by 20 dB."""
    heard = loop.source[:, :SAMPLES]
    fader = np.linspace(0.1, 1.0, heard.shape[1])
    out = _captured(loop, heard)
    late = np.concatenate((np.full(latency, fader[0]), fader))[: out.shape[1]]
    return null_depth(_captured(loop, fader * heard), late * out)


def _captured(loop: TimedLoop, source: NDArray[np.floating]) -> NDArray[np.float64]:
    """What a plugin makes of a source, from a fresh state."""
    loop.refresh(LARGE)
    return loop.capture(LARGE, SAMPLES // LARGE, source=np.ascontiguousarray(source, np.float32)).astype(float)


def null_against(
    loop: TimedLoop, latency: int, other: TimedLoop, other_latency: int, notes: tuple[Note, ...] = ()
) -> float | None:
    """What is left when the sound of one setting is taken from that of another, in dB of the other's.

    Latencies (samples) are made up for. None if the sounds have not as many channels."""
    sounds = []
    for each, late in ((other, other_latency), (loop, latency)):
        each.refresh(LARGE)
        sounds.append(each.capture(LARGE, SAMPLES // LARGE, notes).astype(float)[:, late:])
    count = min(out.shape[1] for out in sounds)
    if sounds[0].shape[0] != sounds[1].shape[0] or count < 1:
        return None
    return null_depth(sounds[0][:, :count], sounds[1][:, :count])


def _hot_peak(loop: TimedLoop) -> float:
    """The highest output in dBFS while the input is as loud as it may be: its peaks just reach full scale."""
    loop.refresh(LARGE)
    gain = 1 / max(float(np.abs(loop.source).max()), 1e-9)
    peak = float(np.nanmax(np.abs(loop.capture(LARGE, SAMPLES // LARGE, gain=gain))))
    return max(20 * float(np.log10(max(peak, 1e-12))), DEEPEST_DB)


def null_depth(one: NDArray[np.floating], other: NDArray[np.floating]) -> float:
    """What is left when one is taken from the other, in dB of the first; −200 if nothing is."""
    level, rest = float(np.sum(one.astype(float) ** 2)), float(np.sum((one.astype(float) - other) ** 2))
    if not level > 0 or not rest > 0:
        return DEEPEST_DB
    return max(10 * float(np.log10(rest / level)), DEEPEST_DB)


def true_latency(source: NDArray[np.float32], out: NDArray[np.float32]) -> int | None:
    """By how many samples the output lags the input: the highest cross-correlation; None where none is clear."""
    a, b = source.astype(float), out.astype(float)
    size = 2 * len(a)
    power = float(np.sqrt(np.dot(a, a) * np.dot(b, b)))
    if power <= 0:
        return None
    correlation = np.fft.irfft(np.conj(np.fft.rfft(a, size)) * np.fft.rfft(b, size))[: len(a) // 2]
    lag = int(np.argmax(np.abs(correlation)))
    return lag if abs(correlation[lag]) >= CLEAR * power else None


def _is_idle(source: NDArray[np.float32], out: NDArray[np.float32], latency: int) -> bool:
    """Whether every output channel is its input, but for the wait."""
    for k in range(out.shape[0]):
        heard = source[k % source.shape[0]]
        if null_depth(heard[: len(heard) - latency], out[k, latency : len(heard)]) > IDLE_DB:
            return False
    return True
