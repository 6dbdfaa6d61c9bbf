"""A rehearsal's outcome in figures, and how it compares with what was predicted."""

from __future__ import annotations

from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..session.computer import Host, deadline
from ..session.session import Session
from .load_map import hundredth


class Rehearsal(msgspec.Struct, frozen=True):
    """What real threads needed for real blocks of `buffer` samples at `second` of the piece; times in seconds.

    `loads` are the blocks' durations over the deadline, in order; `missed` how many ended after their deadline.
    `strips` (by id) is the mean time of each strip, `strip_peaks` what one block in a hundred reaches; `uses` (by id)
    the mean of each plugin. `busy` is each core's share of the time. `overhead` is the mean time of a strip beside its
    plugins, `wake` how late a block begins after it is due (one in a hundred). `slowdown` is how much slower a core
    computes while all compute at once, `rested` how much slower it is after it has slept as long as between these
    blocks. `real_time` and `locked` say whether the system allowed real-time scheduling and locked memory. `refused`
    gives a reason for each plugin that could not be loaded.
    """

    buffer: int
    rate: int
    second: float
    cores: int
    real_time: bool
    locked: bool
    loads: tuple[float, ...]
    missed: int
    strips: dict[str, float]
    strip_peaks: dict[str, float]
    uses: dict[str, float]
    busy: tuple[float, ...]
    overhead: float
    wake: float
    slowdown: float
    rested: float = 1.0
    refused: dict[str, str] = {}

    @property
    def typical(self) -> float:
        """The median load."""
        return float(np.median(self.loads)) if self.loads else 0.0

    @property
    def bad(self) -> float:
        """What one block in a hundred reaches."""
        return hundredth(np.array(self.loads))

    @property
    def worst(self) -> float:
        return max(self.loads, default=0.0)

    @property
    def missed_per_minute(self) -> float:
        seconds = len(self.loads) * deadline(self.buffer, self.rate)
        return 60 * self.missed / seconds if seconds > 0 else 0.0


class Prediction(NamedTuple):
    """What was predicted for the same moment: loads as fractions, strips (S) and plugins (by id) in seconds.

    `is_foreign` says that most of it rests on figures that are not from this computer.
    """

    typical: float
    bad: float
    strips: NDArray[np.float64]
    uses: dict[str, float]
    is_foreign: bool = False


def agreement(predicted: Prediction, of: Rehearsal) -> tuple[float, float]:
    """By how much the predicted typical and bad loads are off, as fractions of the rehearsed ones."""
    typical = predicted.typical / of.typical - 1 if of.typical > 0 else 0.0
    bad = predicted.bad / of.bad - 1 if of.bad > 0 else 0.0
    return typical, bad


def learned(session: Session, predicted: Prediction, of: Rehearsal) -> Host:
    """The session's host as the rehearsal shows it: how dear plugins are in it, and what a strip takes beside them."""
    both = [use for use in of.uses if predicted.uses.get(use, 0.0) > 0]
    before, after = sum(predicted.uses[use] for use in both), sum(of.uses[use] for use in both)
    factor = session.host.plugin_factor * (after / before if before > 0 else 1.0)
    return msgspec.structs.replace(session.host, plugin_factor=factor, strip_overhead=of.overhead, plugin_overhead=0.0)
