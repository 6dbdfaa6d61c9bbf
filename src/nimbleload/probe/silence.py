"""Ten seconds of silence after sound: what a plugin costs then, and whether its dying tail costs more."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ..core.cards.card import Silence
from .pace import Pace
from .signal import CYCLE
from .timed import TimedLoop

FRAMES = 512
SECONDS = 10.0


def find_silence(loop: TimedLoop, pace: Pace, sound, hush, rate: int, overhead: int, allowed: float) -> Silence:
    """Runs the plugin into silence twice, with denormal numbers flushed and without.

    `sound(frames, blocks)` runs it from a fresh state, `hush(frames)` ends its notes. Where ten seconds of sound take
    longer to compute than `allowed` seconds (twice), the silence is cut short and its end stands for the rest.
    """
    whole = CYCLE // FRAMES  # a part holds whole cycles, so that bursts weigh in each alike
    count = math.ceil(SECONDS * rate / CYCLE)
    led = math.ceil(0.5 * rate / CYCLE) * whole

    def silent(flush: bool) -> tuple[float, NDArray[np.float64]]:
        before = np.asarray(sound(FRAMES, 2 * led), float)[led:]
        hush(FRAMES)
        parts: list[float] = []
        spent = 0  # what the plugin takes counts, not what is waited for a quiet moment
        while len(parts) < count and (len(parts) < 4 or spent < allowed * 1e9):
            pace.wait(0.01)
            times = loop.run(FRAMES, whole, silent=True, flush=flush)
            spent += int(times.sum())
            parts.append(_steady(times) - overhead)
        parts += parts[-1:] * (count - len(parts))
        return (_steady(before) - overhead) / 1e9, np.maximum(parts, 0.0) / 1e9

    sounding, flushed = silent(True)
    _, unflushed = silent(False)
    places = (0, math.ceil(rate / CYCLE), count - 3)
    first, second, last = (float(np.median(flushed[k : k + (3 if k else 1)])) for k in places)
    return Silence(rate, FRAMES, max(sounding, 0.0), (first, second, last), _dearest(flushed), _dearest(unflushed))


def _steady(times: NDArray) -> float:
    """The mean without what the machine added: everything beyond four times the median, where few blocks are."""
    times = np.asarray(times, float)
    high = times > 4 * np.median(times)
    return float(times[~high].mean() if high.mean() < 0.05 else times.mean())


def _dearest(parts: NDArray[np.float64]) -> float:
    """The dearest part by the middle one of three neighbours: a single interruption does not count."""
    return float(np.median(np.lib.stride_tricks.sliding_window_view(parts, 3), axis=1).max())
