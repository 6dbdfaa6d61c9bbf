"""How long a plugin has to sound until a block costs what it does from then on.

What some remember fills up, and what is empty is left out: a reverb that convolves with six seconds of a room takes all
of them only when it has heard six seconds of sound. From a fresh state it is measured too cheap, here by half.
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from .formats.hosted import Note
from .signal import CHORD_CYCLE, CYCLE, again
from .timed import TimedLoop

# From so many fresh states it is found out what a block costs at first, and from so many cycles what it costs later.
FRESH, LATER = 3, 3
# What grows by no more than this share, and so much (ns), has not grown.
GROWN, ROOM_NS = 1.03, 30.0
# Nothing is listened to for longer than this (seconds).
LONGEST = 15.0


def find_filling(
    loop: TimedLoop, notes: tuple[Note, ...], rate: int, frames: int, seconds: float, within: float,
    alive: Callable[[], None] = lambda: None,
) -> int:  # fmt: skip
    """After how many samples of sound (whole cycles) a block of so many costs what it does from then on; 0: at once.

    It is listened for `seconds`, and as long again while it still grows, but for about `within` seconds of computing at
    most. `alive` is called before every run.
    """
    samples = CHORD_CYCLE if notes else CYCLE
    cycle = max(samples // frames, 1)
    until = time.monotonic() + within
    fresh: list[NDArray[np.int64]] = []
    for _ in range(FRESH):
        alive()
        loop.refresh(frames)
        fresh.append(loop.run(frames, 2 * cycle, notes)[cycle:])
    cost, played, filled = _least(fresh), 2 * cycle * frames, 0
    while seconds <= LONGEST and time.monotonic() < until:
        while played < seconds * rate and time.monotonic() < until:
            alive()
            loop.run(frames, cycle, again(notes))
            played += cycle * frames
        later = _least([loop.run(frames, cycle, again(notes)) for _ in range(LATER)])
        if later <= GROWN * cost + ROOM_NS:
            break
        cost, filled, seconds = later, played, 2 * seconds
        played += LATER * cycle * frames
    return filled


def _least(times: list[NDArray[np.int64]]) -> float:
    """The mean block time of runs of the same blocks, the least of them for each (ns)."""
    return float(np.min(times, axis=0).mean())
