"""The xruns that a sound server tells of, beside the blocks that were seen: which of them the work explains."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Seen

# A server tells of an xrun after the block, from a thread that may have to wait for its core: so long at most (ns).
TOLD_WITHIN = 200_000_000
# A thread that computes in so many of the blocks belongs into each.
ALWAYS = 0.9


class Xruns(NamedTuple):
    """X xruns: the block that each belongs to (by its place), whether that `is_late`, and where it is not, which thread
    should have computed shortly before and did not (`absent`: its place, −1 for none)."""

    places: NDArray[np.int64]
    is_late: NDArray[np.bool_]
    absent: NDArray[np.int64]


def xruns(of: Seen) -> Xruns:
    """What blocks say of the xruns. An xrun belongs to the last late block shortly before it was told; where none was
    late, to the last that had begun. Empty without blocks."""
    heard, blocks = of.recording.heard, of.blocks
    if heard is None or blocks is None or not len(blocks.start):
        return Xruns(np.zeros(0, np.int64), np.zeros(0, np.bool_), np.zeros(0, np.int64))
    within = TOLD_WITHIN + round(blocks.period * 1e9)
    begun = np.maximum(np.searchsorted(blocks.start, heard.xrun_time, "right") - 1, 0)
    late = np.flatnonzero(blocks.late)
    before = np.searchsorted(late, begun, "right") - 1
    last = late[np.maximum(before, 0)] if len(late) else np.zeros(len(begun), np.int64)
    is_late = (before >= 0) & (heard.xrun_time - blocks.start[last] <= within)
    first = np.searchsorted(blocks.start, heard.xrun_time - within)
    absent = np.full(len(begun), -1, np.int64)
    if not is_late.all():
        absent[~is_late] = _absent(of, first[~is_late], begun[~is_late])
    return Xruns(np.where(is_late, last, begun), is_late, absent)


def _absent(of: Seen, first: NDArray[np.int64], last: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each of X stretches of blocks, `first` … `last`, the thread of the engine that missed most of them, though it
    computes in nearly all others; −1 if none missed one."""
    assert of.blocks is not None
    start = of.blocks.start
    most, found = np.zeros(len(first), np.int64), np.full(len(first), -1, np.int64)
    for k in of.engine:
        place = np.searchsorted(start, of.turns[k].begin + round(0.02e9 * of.blocks.period), "right") - 1
        there = np.zeros(len(start), np.bool_)
        there[place[place >= 0]] = True
        if there.mean() >= ALWAYS:
            so_far = np.concatenate(([0], np.cumsum(~there)))
            missed = so_far[last + 1] - so_far[first]
            found[missed > most] = k
            most = np.maximum(most, missed)
    return found
