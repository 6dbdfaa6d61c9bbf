"""Whether a plugin keeps to what it says: its latency, the same sound at any block size, finite numbers, an effect."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.cards.card import Truth
from .formats.hosted import Note
from .timed import TimedLoop

SMALL, LARGE = 64, 512
SAMPLES = 24576
# What only passes on what it hears does so with soft sounds, with peaks at full scale and with some beyond that: a
# limiter leaves those of the signal alone, and a gate has nothing to close for.
SOFTEST, LOUDEST = 0.001, (1.0, 4.0)
# Cross-correlation says where the input went only if this much of it is found there.
CLEAR = 0.5
IDLE_DB = -100.0
DEEPEST_DB = -200.0
SOFT = np.float32(0.01)
# 10 dB softer.
PANNED = 10 ** (-10 / 20)


def find_truth(loop: TimedLoop, notes: tuple[Note, ...] = (), lasting: float = 0.0) -> Truth:
    """Runs the same half second at two block sizes, and at one of them twice, each from a fresh state; longer by the
    latency that the plugin reports. `lasting` is for how many samples it sounds on after its input ends: what has not
    sounded by then, or does so only afterwards, gets all of the source."""
    whole = loop.source.shape[1] // LARGE * LARGE
    samples = listened_for(loop.latency, whole)
    truth = _heard(loop, notes, samples)
    goes_on = lasting > (truth.latency or 0) + 2 * LARGE
    if samples < whole and (truth.silent or (truth.idle and goes_on)):
        truth = _heard(loop, notes, whole)
    return msgspec.structs.replace(truth, idle=truth.idle and not goes_on)


def _heard(loop: TimedLoop, notes: tuple[Note, ...], samples: int) -> Truth:
    """What so many samples of the source tell."""

    def run(frames: int) -> tuple[NDArray[np.float32], int]:
        loop.refresh(frames)
        return loop.capture(frames, samples // frames, notes), loop.latency

    (small, small_late), (large, large_late), (again, _) = run(SMALL), run(LARGE), run(LARGE)
    if not all(np.isfinite(out).all() for out in (small, large, again)):
        return Truth(finite=False)
    if not np.any(small):
        return Truth(silent=True)
    # A plugin that never sounds the same twice (a free oscillator, noise) cannot be judged by its block sizes.
    repeatable = null_depth(large, again) <= -80
    source = loop.source[:, :samples]
    latency = None if notes else true_latency(source[0], large[0])
    return Truth(
        latency=latency,
        # Where its latency goes by the block size, hosts make up for each.
        null_db=null_depth(*_on_time((small, small_late), (large, large_late))) if repeatable else None,
        # What comes later than hosts are told is moved: a delay of a few samples is there for that.
        idle=latency == large_late
        and _is_idle(source, large, latency)
        and _is_idle_at_any_level(loop, source, latency),
        hot_peak=None if notes else _hot_peak(loop, samples),
        linear_db=_linear_db(loop, source) if repeatable and not notes else None,
        pan_db=_pan_db(loop, source) if repeatable and not notes else None,
        ride_db=_ride_db(loop, source, latency or 0) if repeatable and not notes else None,
    )


def _on_time(*each: tuple[NDArray[np.floating], int]) -> list[NDArray[np.floating]]:
    """Sounds without what they are late by (samples), all as long as the shortest then."""
    sounds = [out[:, late:] for out, late in each]
    return [sound[:, : min(other.shape[1] for other in sounds)] for sound in sounds]


def listened_for(latency: int, whole: int) -> int:
    """How many samples tell what there is to hear of a plugin that is so late (samples), of a whole number of them: as
    many as of one that is not."""
    return min(SAMPLES + -(-latency // LARGE) * LARGE, whole)


def _linear_db(loop: TimedLoop, heard: NDArray[np.float32]) -> float:
    """Superposition: what is left of f(a + b) when f(a) and f(b) are taken away, in dB of it; the worse of two tests.

    Once with both alike and their sum as loud as may be, for what bends at the top; once with the second 40 dB softer,
    for what treats soft sounds in another way. What the plugin puts out by itself counts once, as in one instance.
    """
    other = np.roll(heard, heard.shape[1] // 3, axis=1)
    loudest = 1 / max(float(np.abs(heard + other).max()), 1e-9)

    by_itself = _captured(loop, np.zeros_like(heard))
    depths = []
    for one, two in ((loudest * heard, loudest * other), (heard, SOFT * other)):
        together, apart = _captured(loop, one + two), _captured(loop, one) + _captured(loop, two) - by_itself
        depths.append(null_depth(together, apart))
    return max(depths)


def _pan_db(loop: TimedLoop, heard: NDArray[np.float32]) -> float | None:
    """What is left of f(p · x) when p · f(x) is taken away, in dB of it, with p 10 dB softer on the second channel.

    None for a plugin that has not as many outputs as inputs, two at least.
    """
    out = _captured(loop, heard)
    if heard.shape[0] < 2 or out.shape[0] != heard.shape[0]:
        return None
    pan = np.where(np.arange(len(heard)) % 2 == 1, PANNED, 1.0)[:, None]
    return null_depth(_captured(loop, pan * heard), pan * out)


def _ride_db(loop: TimedLoop, heard: NDArray[np.float32], latency: int) -> float:
    """What is left of f(g · x) when g · f(x) is taken away, in dB of it, with g a fader that glides up by 20 dB."""
    fader = np.linspace(0.1, 1.0, heard.shape[1])
    out = _captured(loop, heard)
    late = np.concatenate((np.full(latency, fader[0]), fader))[: out.shape[1]]
    return null_depth(_captured(loop, fader * heard), late * out)


def _captured(loop: TimedLoop, source: NDArray[np.floating]) -> NDArray[np.float64]:
    """What a plugin makes of a source (a whole number of blocks), from a fresh state."""
    loop.refresh(LARGE)
    return loop.capture(LARGE, source.shape[1] // LARGE, source=np.ascontiguousarray(source, np.float32)).astype(float)


def null_against(loop: TimedLoop, other: TimedLoop, notes: tuple[Note, ...] = ()) -> float | None:
    """What is left when the sound of one setting is taken from that of another, in dB of the other's.

    What they are late by is made up for. None if the sounds have not as many channels."""
    whole = min(loop.source.shape[1], other.source.shape[1]) // LARGE * LARGE
    samples = listened_for(max(loop.latency, other.latency), whole)
    made = []
    for each in (other, loop):
        each.refresh(LARGE)
        made.append((each.capture(LARGE, samples // LARGE, notes), each.latency))
    one, two = _on_time(*made)
    return null_depth(one, two) if one.shape[0] == two.shape[0] and one.shape[1] else None


def _hot_peak(loop: TimedLoop, samples: int) -> float:
    """The highest output in dBFS while the input is as loud as it may be: its peaks just reach full scale."""
    loop.refresh(LARGE)
    gain = 1 / max(float(np.abs(loop.source).max()), 1e-9)
    peak = float(np.nanmax(np.abs(loop.capture(LARGE, samples // LARGE, gain=gain))))
    return max(20 * float(np.log10(max(peak, 1e-12))), DEEPEST_DB)


def null_depth(one: NDArray[np.floating], other: NDArray[np.floating]) -> float:
    """What is left when one is taken from the other, in dB of the first; −200 if nothing is."""
    level, rest = float(np.sum(one.astype(float) ** 2)), float(np.sum((one.astype(float) - other) ** 2))
    if not level > 0 or not rest > 0:
        return DEEPEST_DB
    return max(10 * float(np.log10(rest / level)), DEEPEST_DB)


def true_latency(source: NDArray[np.float32], out: NDArray[np.float32]) -> int | None:
    """By how many samples the output lags the input (both of one length): the highest cross-correlation of what is
    heard first; None where none is clear."""
    a, b = source[:SAMPLES].astype(float), out.astype(float)
    size = 2 * len(b)
    correlation = np.fft.irfft(np.conj(np.fft.rfft(a, size)) * np.fft.rfft(b, size))[: len(b) - len(a) // 2]
    lag = int(np.argmax(np.abs(correlation)))
    there = b[lag : lag + len(a)]
    power = float(np.sqrt(np.dot(a, a) * np.dot(there, there)))
    return lag if power > 0 and abs(correlation[lag]) >= CLEAR * power else None


def _is_idle_at_any_level(loop: TimedLoop, source: NDArray[np.float32], latency: int) -> bool:
    """Whether the same holds of the source where it is soft, and where its peaks reach full scale or go beyond."""
    most = max(float(np.abs(source).max()), 1e-9)
    heard = [np.asarray(source * gain, np.float32) for gain in (SOFTEST, *(each / most for each in LOUDEST))]
    return all(_is_idle(each, _captured(loop, each), latency) for each in heard)


def _is_idle(source: NDArray[np.float32], out: NDArray[np.floating], latency: int) -> bool:
    """Whether every output channel is its input, but for the wait."""
    for k in range(out.shape[0]):
        heard = source[k % source.shape[0]]
        if null_depth(heard[: len(heard) - latency], out[k, latency : len(heard)]) > IDLE_DB:
            return False
    return True
