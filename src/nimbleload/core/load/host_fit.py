"""Fitting the host: what readings of its meter at several buffer sizes say about its own overhead."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ..session.computer import deadline
from ..units import microseconds, percent

# A meter that shows whole per cent is right to half of one.
METER_STEP = 0.005
BADLY = 0.05


class MeterReading(NamedTuple):
    """What a host's meter showed: the load (fraction) at a buffer size (samples)."""

    buffer: int
    load: float


class HostFit(NamedTuple):
    """The host's own time: `fixed` seconds in each block, and how many times dearer the plugins are in it (`factor`).

    `fixed_error` and `factor_error` are one standard deviation. `strip_overhead` is the fixed part spread over the
    strips (seconds each); `misses` are predicted minus read loads, in the order of the readings.
    """

    fixed: float
    factor: float
    fixed_error: float
    factor_error: float
    strip_overhead: float
    misses: tuple[float, ...]

    def sentence(self, readings: Sequence[MeterReading]) -> str:
        """What the fit says, and which reading fits badly."""
        said = (
            f"The host itself takes {microseconds(self.fixed)} ± {microseconds(self.fixed_error)} of each block, and "
            f"plugins cost {percent(self.factor)} ± {percent(self.factor_error)} of what was measured."
        )
        worst = int(np.argmax(np.abs(self.misses)))
        if abs(self.misses[worst]) > max(BADLY * readings[worst].load, 2 * METER_STEP):
            side = "higher" if self.misses[worst] < 0 else "lower"
            said += (
                f" The reading at {readings[worst].buffer} samples fits badly: it is "
                f"{percent(abs(self.misses[worst]))} of the deadline {side} than these figures give."
            )
        elif len(readings) > 2:
            said += " All readings fit."
        return said


def fit_host(
    readings: Sequence[MeterReading], plugin_seconds: Sequence[float], rate: int, strips: int, threads: int
) -> HostFit:
    """Least squares of reading × deadline = factor × plugins' finishing time + fixed, both not negative.

    `plugin_seconds` are the finishing times of the block at each reading's size without any overhead of the host. The
    errors come from the meter's whole per cents, and with three readings or more also from how far they miss.
    ValueError with fewer than two different buffer sizes.
    """
    from scipy.optimize import nnls  # imported here: it would lengthen every start by a quarter of a second

    if len({reading.buffer for reading in readings}) < 2:
        raise ValueError("two readings at different buffer sizes are needed")
    blocks = np.array([deadline(reading.buffer, rate) for reading in readings])
    loads = np.array([reading.load for reading in readings])
    # Each row is divided by its deadline, so that a per cent weighs the same at every size.
    design = np.column_stack((np.array(plugin_seconds) / blocks, 1 / blocks))
    (factor, fixed), _ = nnls(design, loads)
    misses = design @ (factor, fixed) - loads
    spare = len(readings) - 2
    variance = METER_STEP**2 / 3 + (float(misses @ misses) / spare if spare > 0 else 0.0)
    errors = np.sqrt(np.diag(np.linalg.pinv(design.T @ design)) * variance)
    overhead = fixed * threads / max(strips, 1)
    return HostFit(
        float(fixed), float(factor), float(errors[1]), float(errors[0]), float(overhead), tuple(misses.tolist())
    )
