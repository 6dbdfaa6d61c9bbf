"""What readings of a host's meter say about it, in sentences."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..load.host_fit import METER_STEP, HostFit, MeterReading
from ..load.host_seen import HostSeen
from ..session.panning import PanLaw
from ..units import count, gigahertz, microseconds, percent
from .held_up import SLOW

BADLY = 0.05
PAN_LAWS: dict[PanLaw, str] = {
    "": "not known", "balance": "balance: the far side is turned down", "-3": "−3 dB in the centre (equal power)",
    "-4.5": "−4.5 dB in the centre", "-6": "−6 dB in the centre (straight lines)", "+3": "+3 dB at the sides",
    "+4.5": "+4.5 dB at the sides", "+6": "+6 dB at the sides",
}  # fmt: skip


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


def seen_sentence(found: HostSeen) -> str:
    """What recordings tell of the host."""
    own = " and ".join(
        f"{microseconds(own)} of each block at {buffer} samples"
        for own, buffer in zip(found.own, found.buffers, strict=True)
    )
    said = f"The host itself takes {own}; it computes on {count(found.threads, 'thread')}"
    said += f", ahead in blocks of {found.read_ahead} samples." if found.read_ahead else "."
    if found.plugins:
        doubt = f"{percent(found.factor)} ± {percent(found.factor_error)} of what was predicted"
        said += f" {count(found.plugins, 'plugin')} of the session cost {doubt}."
    else:
        said += " None of the session's plugins was met in it, so what they cost there is not known."
    if 0 < found.clock < SLOW * found.most:
        said += f" Its cores ran at {gigahertz(found.clock)} then, of {gigahertz(found.most)}: at more, all takes less."
    if len(found.own) > 1 and max(found.own) > 1.5 * min(found.own):
        said += " Its own time differs from buffer to buffer: part of it goes with the samples; the mean is taken."
    return said
