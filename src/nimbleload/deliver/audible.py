"""Where in a rendered file something is heard: there it is laid into the changed session, and nowhere else, so that
what it feeds may rest while it does."""

from __future__ import annotations

from collections.abc import Iterator
from functools import reduce
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..core.piece.moments import Span
from .resting import SHORTEST

# What is softer is silence: less than the least step of 24 bits (linear).
SILENT = 10 ** (-140 / 20)


class Audible(NamedTuple):
    """The highest sample of a sound (linear), from when to when something is heard in it (seconds), and whether both
    its sides are the same."""

    peak: float
    spans: tuple[Span, ...]
    is_mono: bool


def loudest(sound: NDArray[Any]) -> NDArray[Any]:
    """The highest of the channels at each sample (n, channels, one at least): their values without a sign (n)."""
    # Channel by channel: along so short an axis `max` takes twenty times as long.
    return reduce(np.maximum, np.abs(sound).T)


def audible(stretches: Iterator[NDArray[np.float32]], rate: int) -> Audible:
    """Looks through a sound (n, channels; float32 each) at a rate in hertz. Rests that are too short for a plugin to be
    switched off in them are none."""
    peak, at, shortest, is_mono = 0.0, 0, SHORTEST * rate, True
    found: list[list[int]] = []
    for stretch in stretches:
        highest = loudest(stretch)
        peak = max(peak, float(highest.max(initial=0.0)))
        is_mono = is_mono and all(np.array_equal(channel, stretch[:, 0]) for channel in stretch.T[1:])
        loud = at + np.flatnonzero(highest > SILENT)
        for part in np.split(loud, np.flatnonzero(np.diff(loud) > shortest) + 1):
            if len(part) and found and part[0] - found[-1][1] < shortest:
                found[-1][1] = int(part[-1]) + 1
            elif len(part):
                found.append([int(part[0]), int(part[-1]) + 1])
        at += len(stretch)
    return Audible(peak, tuple((first / rate, end / rate) for first, end in found), is_mono)
