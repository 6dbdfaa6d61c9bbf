"""What readings of a host's meter say about it, in sentences."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..load.host_fit import METER_STEP, HostFit, MeterReading
from ..units import microseconds, percent

BADLY = 0.05


def sentence(found: HostFit, readings: Sequence[MeterReading]) -> str:
    """What the fit says, and which reading fits badly."""
    said = (
        f"The host itself takes {microseconds(found.fixed)} ± {microseconds(found.fixed_error)} of each block, and "
        f"plugins cost {percent(found.factor)} ± {percent(found.factor_error)} of what was measured."
    )
    worst = int(np.argmax(np.abs(found.misses)))
    if abs(found.misses[worst]) > max(BADLY * readings[worst].load, 2 * METER_STEP):
        side = "higher" if found.misses[worst] < 0 else "lower"
        said += (
            f" The reading at {readings[worst].buffer} samples fits badly: it is "
            f"{percent(abs(found.misses[worst]))} of the deadline {side} than these figures give."
        )
    elif len(readings) > 2:
        said += " All readings fit."
    return said
