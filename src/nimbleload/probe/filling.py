"""How long a plugin has to sound until a block costs what it does from then on.

What some remember fills up, and what is empty is left out: a reverb that convolves with six seconds of a room takes all
of them only when it has heard six seconds of sound. From a fresh state it is measured too cheap, here by half.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..native.witness import COLUMNS, is_alone, least_units
from .formats.hosted import Note
from .signal import again, blocks_in_cycle
from .timed import TimedLoop

# So many runs of one cycle each are compared, with what the witness tells after each block: others on the same core
# must not be taken for what the plugin does. In so many of the places at least it must have had the core to itself, or
# the least of all blocks counts.
RUNS, ENOUGH = 3, 0.5
# What grows by no more than this share, and so much (ns), grows no more; what has grown by no more than that in all
# does not matter.
GROWN, MATTERS, ROOM_NS = 1.03, 1.06, 30.0
# Nothing is listened to for longer than this (seconds).
LONGEST = 15.0
# What was found to grow is looked at so many times more, each after a pause (seconds).
SURE, PAUSE = 3, 0.3


class Heard(NamedTuple):
    """Block times of the same places in a cycle (R, B, ns), and what the witness told after each (R, B, COLUMNS)."""

    times: NDArray[np.int64]
    told: NDArray[np.int64]


def find_filling(
    loop: TimedLoop, notes: tuple[Note, ...], rate: int, frames: int, seconds: float, within: float,
    alive: Callable[[], None] = lambda: None,
) -> int:  # fmt: skip
    """After how many samples of sound (whole cycles) a block of so many costs what it does from then on; 0: at once.

    It is listened for `seconds`, and as long again while it still grows, but for about `within` seconds of computing at
    most. `alive` is called before every run. The loop takes it to heart: from now on it fills as much.
    """
    loop.filling = 0
    cycle = blocks_in_cycle(frames, notes)
    until = time.monotonic() + within

    def run(cycles: int, first: tuple[Note, ...]) -> Heard:
        told = np.zeros((cycles * cycle, COLUMNS), np.int64)
        times = loop.run(frames, cycles * cycle, first, told=told)
        return Heard(times[-cycle:], told[-cycle:])

    def fresh() -> Heard:
        made = []
        for _ in range(RUNS):
            alive()
            loop.refresh(frames)
            made.append(run(2, notes))
        return Heard(*map(np.array, zip(*made, strict=True)))

    def later() -> Heard:
        return Heard(*map(np.array, zip(*(run(1, again(notes)) for _ in range(RUNS)), strict=True)))

    begun = before = fresh()
    played, filled = 2 * cycle * frames, 0
    while seconds <= LONGEST and time.monotonic() < until:
        while played < seconds * rate and time.monotonic() < until:
            alive()
            run(1, again(notes))
            played += cycle * frames
        now = later()
        if not has_grown(before, now):
            break
        before, filled, seconds = now, played, 2 * seconds
        played += RUNS * cycle * frames
    if not filled or not has_grown(begun, before, MATTERS):
        return 0
    # Whoever shares the core does so for a while, and takes of it what the witness does not need as well: what grows
    # does so each time, and against each beginning.
    for _ in range(SURE):
        time.sleep(min(PAUSE, within / 2))
        loop.filling = 0
        beginning = fresh()
        loop.filling = filled
        loop.fill(frames, notes)
        full = later()
        if not all(has_grown(beginning, each, MATTERS) for each in (before, full)):
            loop.filling = 0
            break
        before = full
    return loop.filling


def has_grown(before: Heard, later: Heard, by: float = GROWN) -> bool:
    """Whether blocks in the same places cost more later (than so many times as much), each by the least of its runs
    that had the core to itself."""
    best = min(least_units(each.told) for each in (before, later))
    sides = [np.where(is_alone(each.told, best), each.times, np.inf).min(axis=0) for each in (before, later)]
    both = np.isfinite(sides[0]) & np.isfinite(sides[1])
    if both.mean() < ENOUGH:
        sides, both = [each.times.min(axis=0) for each in (before, later)], np.ones_like(both)
    was, now = (float(side[both].mean()) for side in sides)
    return now > by * was + ROOM_NS
