"""Fitting the host: what readings of its meter at several buffer sizes say about its own overhead."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

# A meter that shows whole per cent is right to half of one.
METER_STEP = 0.005
# Steps of the fit's unknowns: of the factor, and in seconds a strip.
STEPS = np.array([1e-4, 1e-9])
ROUNDS, STARTS = 40, 4
# Where the best is not exact, finer grids around it, so wide.
ZOOMS, EXACT = (0.3, 0.1, 0.03), 1e-10


# The load at each reading's size, from a factor and an overhead a strip.
Loads = Callable[[float, float], NDArray[np.float64]]
# Both, what they miss of each reading, and the slopes of the loads there.
Point = tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]


class MeterReading(NamedTuple):
    """What a host's meter showed: the load (fraction) at a buffer size (samples)."""

    buffer: int
    load: float


class HostFit(NamedTuple):
    """The host's own time: `strip_overhead` seconds a strip and block, and how many times dearer plugins are in it
    (`factor`). `fixed` is the overhead of all strips together (seconds).

    `fixed_error` and `factor_error` are one standard deviation. `misses` are predicted minus read loads, in the
    order of the readings.
    """

    fixed: float
    factor: float
    fixed_error: float
    factor_error: float
    strip_overhead: float
    misses: tuple[float, ...]


def fit_host(readings: Sequence[MeterReading], loads: Loads, strips: int) -> HostFit:
    """The factor and the overhead a strip with which the load computation gives the readings back, as well as it can.

    `loads` computes the load at each reading's size from both. Least squares, neither negative (Gauss and Newton's
    method, damped after D. W. Marquardt, 1963): the load is computed, not taken to be in proportion, so that readings
    made by it give its figures back in every kind of host. The errors come from the meter's whole per cents, and with
    three readings or more also from how far they miss. ValueError with fewer than two different buffer sizes.
    """
    if len({reading.buffer for reading in readings}) < 2:
        raise ValueError("two readings at different buffer sizes are needed")
    wanted = np.array([reading.load for reading in readings])
    grid = _grid(loads, wanted)
    at, misses, slope = _best(grid, loads, wanted)
    for width in ZOOMS:
        if float(misses @ misses) < EXACT:
            break
        near = [at * (f, o) for f in np.linspace(1 - width, 1 + width, 7) for o in np.linspace(1 - width, 1 + width, 7)]
        at, misses, slope = _best([at, *near], loads, wanted)
    spare = len(readings) - 2
    variance = METER_STEP**2 / 3 + (float(misses @ misses) / spare if spare > 0 else 0.0)
    errors = np.sqrt(np.diag(np.linalg.pinv(slope.T @ slope)) * variance)
    factor, overhead = (float(x) for x in at)
    return HostFit(
        overhead * strips, factor, float(errors[1]) * strips, float(errors[0]), overhead, tuple(misses.tolist())
    )


def _best(grid: list[NDArray[np.float64]], loads: Loads, wanted: NDArray[np.float64]) -> Point:
    """The best point that is reached from the few best of a grid.

    A block's finishing time jumps where its order changes, so one start may end beside the truth.
    """
    misses = [float(np.sum((loads(*at) - wanted) ** 2)) for at in grid]
    tried = [_descended(grid[k], loads, wanted) for k in np.argsort(misses, kind="stable")[:STARTS]]
    return min(tried, key=lambda each: float(each[1] @ each[1]))


def _grid(loads: Loads, wanted: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Plugins at a fifth to twice of what was measured, the host's own time from nothing to all."""
    bare, steep = loads(0.0, 0.0), loads(0.0, STEPS[1])
    slope = np.maximum((steep - bare) / STEPS[1], 1e-12)
    most = float(np.min((wanted - bare).clip(0.0) / slope))
    return [np.array([f, most * o]) for f in np.linspace(0.2, 2.0, 7) for o in (0.0, 0.1, 0.3, 0.5, 0.7, 1.0)]


def _descended(start: NDArray[np.float64], loads: Loads, wanted: NDArray[np.float64]) -> Point:
    """The nearest best point from a start, what it misses, and the slopes there."""
    at = start
    misses = loads(*at) - wanted
    damping, slope = 1e-3, np.zeros((len(wanted), 2))
    for _ in range(ROUNDS):
        slope = np.column_stack([(loads(*(at + step)) - misses - wanted) for step in np.diag(STEPS)]) / STEPS
        normal = slope.T @ slope
        step = np.linalg.lstsq(normal + damping * np.diag(np.diag(normal)), -slope.T @ misses, rcond=None)[0]
        tried = np.maximum(at + step, 0.0)
        found = loads(*tried) - wanted
        if found @ found < misses @ misses:
            done = np.allclose(tried, at, rtol=1e-9, atol=1e-13)
            at, misses, damping = tried, found, damping / 10
            if done:
                break
        else:
            damping *= 10
            if damping > 1e9:
                break
    return at, misses, slope
