"""At which clock cores ran while a host was watched: on a slower one the same work takes longer."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Seen
from .records import Times

# A clock is another one if it differs by so much; what was before was one that lasted, for so many looks.
DIFFERS, LASTING = 0.07, 8


class Clock(NamedTuple):
    """At which clock an engine computed (Hz): on average, and the most that its cores may run at (0: not told).
    `before` is the fastest that they had run at for some seconds, if that was clearly faster (else 0), until so many
    seconds `ago`. `hot` is how often one of them was slowed down for heat meanwhile."""

    now: float
    most: float
    before: float
    ago: float
    hot: int


def clock(of: Seen) -> Clock | None:
    """At which clock the engine's threads computed; None where it is not told."""
    clocks, recording, part = of.recording.clocks, of.recording, _parts(of)
    time, run = _told(of, part)
    during = time >= recording.begun
    if not during.any():
        return None
    now = float(run[during].mean())
    before, ago = _before(time[~during], run[~during], now, recording.ended)
    # What the last look before tells is what had been counted when this began.
    since = max(int(np.searchsorted(clocks.time, recording.begun)) - 1, 0)
    hot = int((clocks.hot[-1] - clocks.hot[since])[part > 0].max())
    return Clock(now, float(clocks.most @ part), before, ago, hot)


def clocks_in(of: Seen, chosen: NDArray[np.bool_], usual: NDArray[np.bool_]) -> tuple[float, float] | None:
    """At which clock (Hz) the `chosen` blocks were computed, and at which `usual` ones; None where it is not told, or
    they were hardly slower."""
    (time, run), blocks = _told(of, _parts(of)), of.blocks
    if not len(run) or blocks is None or not chosen.any() or not usual.any():
        return None
    # A look tells of the time just before it.
    of_block = run[np.minimum(np.searchsorted(time, blocks.start, "right"), len(run) - 1)]
    then, otherwise = float(of_block[chosen].mean()), float(of_block[usual].mean())
    return (then, otherwise) if then < (1 - DIFFERS) * otherwise else None


def _told(of: Seen, part: NDArray[np.float64]) -> tuple[Times, NDArray[np.float64]]:
    """When each look was (ns) at which the kernel told the clock of all cores that count, and the clock then (Hz), each
    core counted by its part."""
    clocks = of.recording.clocks
    told = (clocks.clock[:, part > 0] > 0).all(axis=1) & bool(part.any())
    return clocks.time[told], np.asarray(clocks.clock[told] @ part)


def _parts(of: Seen) -> NDArray[np.float64]:
    """Which part of what the engine computed was on each core whose clock is told (C): 1 all together, or 0."""
    told = of.recording.clocks.core
    took = np.zeros(len(told))
    for run in (of.runs[k] for k in of.engine if len(of.runs[k].core)):
        core, at = np.unique(run.core, return_inverse=True)
        place = np.minimum(np.searchsorted(core, told), len(core) - 1)
        took += np.where(core[place] == told, np.bincount(at, run.end - run.begin)[place], 0.0)
    return np.asarray(took / max(took.sum(), 1.0))


def _before(time: Times, run: NDArray[np.float64], now: float, ended: int) -> tuple[float, float]:
    """The fastest clock that lasted, if it was clearly faster than now, and how long ago (seconds) it ended."""
    if len(run) < LASTING:
        return 0.0, 0.0
    lasted = float(np.lib.stride_tricks.sliding_window_view(run, LASTING).min(axis=1).max())
    if now > (1 - DIFFERS) * lasted:
        return 0.0, 0.0
    last = int(np.flatnonzero(run > (now + lasted) / 2)[-1])
    return lasted, (ended - int(time[last])) / 1e9
