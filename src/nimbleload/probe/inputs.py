"""What a plugin costs with other input than that of its cells: short sounds with gaps between, and peaks at full scale.

Gates close only where there are gaps, and limiters work only where there are peaks.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..core.cards.card import Inputs
from .formats.hosted import Hosted
from .pace import Pace
from .signal import CYCLE
from .timed import TimedLoop

FRAMES = 512
# A short sound begins every so many samples, and nothing of it is left after half of them.
GAP = 2 * CYCLE
DECAY, ATTACK, SHORT_PEAK = 1500.0, 32, 0.5
RUNS, MOST_GAPS = 3, 5


def short_sounds(dense: NDArray[np.float32]) -> NDArray[np.float32]:
    """The same signal (channels, N) as short sounds that die away, their peaks at −6 dBFS, with gaps between."""
    since = np.arange(dense.shape[1]) % GAP
    envelope = np.where(since < CYCLE, np.minimum(since / ATTACK, 1.0) * np.exp(-since / DECAY), 0.0)
    return _at_peak(dense * envelope, SHORT_PEAK)


def hot(dense: NDArray[np.float32]) -> NDArray[np.float32]:
    """The same signal with its peaks at full scale."""
    return _at_peak(dense, 1.0)


def _at_peak(signal: NDArray, peak: float) -> NDArray[np.float32]:
    return np.asarray(signal * (peak / max(float(np.abs(signal).max()), 1e-9)), np.float32)


def find_inputs(
    hosted: Hosted, dense: NDArray[np.float32], rate: int, pace: Pace, overhead: int, allowed: float,
    alive: Callable[[], None],
) -> Inputs:  # fmt: skip
    """The mean cost of a block of FRAMES samples with three signals: the least of three runs, block by block, each from
    a fresh state. `dense` (channels, N) is that of the cells; `allowed` (seconds) is about how long it may take,
    `overhead` the loop's own time (ns). `alive` is called before every run."""
    per_gap = GAP // FRAMES

    def cost(source: NDArray[np.float32], gaps: int) -> float:
        loop, times = TimedLoop(hosted, source), []
        for _ in range(RUNS):
            alive()
            pace.wait()
            loop.refresh(FRAMES)
            times.append(loop.run(FRAMES, (1 + gaps) * per_gap)[per_gap:])
        return max(float(np.min(times, axis=0).mean()) - overhead, 0.0) / 1e9

    once = max(cost(dense, 1), 1e-7) * per_gap
    gaps = int(np.clip(allowed / (3 * RUNS * once) - 1, 1, min(MOST_GAPS, dense.shape[1] // GAP - 1)))
    return Inputs(rate, FRAMES, *(cost(source, gaps) for source in (dense, short_sounds(dense), hot(dense))))
