"""A rehearsal's outcome, and how it compares with what was predicted: block by block, strip by strip, with reasons."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..session.strips import Host, Session, deadline
from ..told.verdict import microseconds, percent

# A strip is worth a reason when it is off by more than this much of itself, and of a thousandth of the deadline.
TELLING = 0.10
INTERRUPTED = 3.0


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
        return float(np.percentile(self.loads, 99, method="nearest")) if self.loads else 0.0

    @property
    def worst(self) -> float:
        return max(self.loads, default=0.0)

    @property
    def missed_per_minute(self) -> float:
        seconds = len(self.loads) * deadline(self.buffer, self.rate)
        return 60 * self.missed / seconds if seconds > 0 else 0.0


class Prediction(NamedTuple):
    """What was predicted for the same moment: loads as fractions, strips (S) and plugins (by id) in seconds."""

    typical: float
    bad: float
    strips: NDArray[np.float64]
    uses: dict[str, float]


class StripCheck(NamedTuple):
    """One strip's predicted and rehearsed time (seconds), and why they differ; no reason if they hardly do."""

    strip: str
    name: str
    predicted: float
    rehearsed: float
    reason: str

    @property
    def off(self) -> float:
        """By how much of the rehearsed time the prediction is off; positive if it was too low."""
        return (self.rehearsed - self.predicted) / self.rehearsed if self.rehearsed > 0 else 0.0


def checks(session: Session, predicted: Prediction, of: Rehearsal) -> list[StripCheck]:
    """Every strip that was played, the largest difference in time first."""
    found = []
    for index, strip in enumerate(session.strips):
        if strip.id not in of.strips:
            continue
        before, after = float(predicted.strips[index]), of.strips[strip.id]
        found.append(StripCheck(strip.id, strip.name, before, after, _reason(session, index, predicted, of)))
    return sorted(found, key=lambda check: -abs(check.rehearsed - check.predicted))


def _reason(session: Session, index: int, predicted: Prediction, of: Rehearsal) -> str:
    """Why a strip took another time than predicted, as far as the figures tell."""
    strip = session.strips[index]
    before, after = float(predicted.strips[index]), of.strips[strip.id]
    gap = after - before
    if abs(gap) < max(TELLING * after, deadline(of.buffer, of.rate) / 1000):
        return ""
    unknown = [use.label for use in strip.live_uses() if predicted.uses.get(use.id, 0.0) == 0 and use.id in of.uses]
    if unknown:
        return f"no figure for {', '.join(unknown)}"
    missing = [use.label for use in strip.live_uses() if use.id in of.refused]
    if missing:
        return f"not played: {', '.join(missing)}"
    if of.strip_peaks.get(strip.id, 0.0) > INTERRUPTED * after:
        return "interrupted: one block in a hundred took over three times as long"
    if gap > 0 and of.slowdown > 1 + TELLING / 2:
        return f"the cores slow each other down, here by {percent(of.slowdown - 1)}"
    if gap > 0 and of.rested > 1 + TELLING / 2:
        return f"the cores are {percent(of.rested - 1)} slower after each rest between blocks"
    plugins = sum(of.uses.get(use.id, 0.0) for use in strip.live_uses())
    if gap > 0 and after - plugins > gap / 2:
        return f"time between its plugins: {microseconds(after - plugins)}"
    return "its plugins find colder caches than when they were measured" if gap > 0 else "quicker than measured"


def off_by(share: float) -> str:
    """By how much a prediction is off, in words: `share` of what was rehearsed, positive if it was too high."""
    return "right" if abs(share) < 0.005 else f"{percent(abs(share))} {'high' if share > 0 else 'low'}"


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


def verdict(of: Rehearsal) -> str:
    """What the rehearsal has shown, in a sentence."""
    minutes = "" if of.missed == 0 else f", {of.missed_per_minute:.0f} a minute,"
    held = "Held every deadline" if of.missed == 0 else f"Missed {of.missed} of {len(of.loads)} deadlines{minutes}"
    return f"{held} at {of.buffer} samples on {of.cores} core{'s' if of.cores > 1 else ''}."


def taken(predicted: Prediction, of: Rehearsal) -> str:
    """What the blocks took, and what had been predicted, in two sentences."""
    typical, bad = agreement(predicted, of)
    return (
        f"Blocks took {percent(of.typical)} of the deadline as a rule, one in a hundred {percent(of.bad)}, "
        f"the worst {percent(of.worst)}. Predicted: typical {percent(predicted.typical)} ({off_by(typical)}), "
        f"one in a hundred {percent(predicted.bad)} ({off_by(bad)})."
    )


def conditions(of: Rehearsal) -> list[str]:
    """What to know about how it was played."""
    said = []
    if not of.real_time:
        said.append("The system did not allow real-time scheduling: other programs may have interrupted it.")
    if not of.locked:
        said.append("The memory could not be locked: a page that was swapped out would have held up a block.")
    if of.slowdown > 1.05:
        said.append(f"While all cores compute, each is {percent(of.slowdown - 1)} slower than alone.")
    if of.rested > 1.05:
        said.append(
            f"After each rest between blocks a core is {percent(of.rested - 1)} slower than at its best: its clock has "
            "dropped, or others have used it. The fuller the blocks, the less of that."
        )
    if of.refused:
        said.append(f"{len(of.refused)} plugins were not played: {_some(list(of.refused.values()))}.")
    return said


def _some(reasons: Sequence[str]) -> str:
    return "; ".join(dict.fromkeys(reasons[:3]))
