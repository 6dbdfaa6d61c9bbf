"""What a watched host keeps in memory while it plays, and whether that ever ends."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

# From so few seconds on nothing is said of growth; it is looked at in so many stretches. Less in one (bytes) is chance;
# what goes on without an end grows by about as much in each.
SECONDS, STRETCHES, LEAST, ALIKE = 60.0, 4, 256 << 10, 3.0


class Held(NamedTuple):
    """What a host and its child processes had in memory at a `time` (ns), in bytes: their `own`, `files` that they have
    mapped, what was `swapped` out to the disk, and what they do not let be swapped out (`locked`)."""

    time: int
    own: int
    files: int
    swapped: int
    locked: int

    @property
    def whole(self) -> int:
        return self.own + self.files + self.swapped


def grows(of: tuple[Held, ...]) -> float:
    """By how many bytes a second a host takes more memory, if it does so all the time; else 0.

    What is loaded comes in steps; what is never given back comes in each stretch of the time about alike.
    """
    if len(of) < 2 * STRETCHES or of[-1].time - of[0].time < SECONDS * 1e9:
        return 0.0
    time = np.array([each.time for each in of]) / 1e9
    whole = np.array([each.own + each.swapped for each in of], np.float64)
    part = np.minimum(((time - time[0]) / (time[-1] - time[0]) * STRETCHES).astype(int), STRETCHES - 1)
    if len(np.unique(part)) < STRETCHES:
        return 0.0
    middle, level = (np.array([np.median(x[part == k]) for k in range(STRETCHES)]) for x in (time, whole))
    steps = np.diff(level)
    if steps.min() < LEAST or steps.max() > ALIKE * steps.min():
        return 0.0
    return float((level[-1] - level[0]) / (middle[-1] - middle[0]))
