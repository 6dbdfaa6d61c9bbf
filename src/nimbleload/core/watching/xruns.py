"""The xruns that a sound server tells of, beside the blocks that were seen: which of them the work explains."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .blocks import Seen

# A server tells of an xrun after the block, from a thread that may have to wait for its core: so long at most (ns).
TOLD_WITHIN = 200_000_000


def places(of: Seen) -> NDArray[np.int64]:
    """The block that each xrun belongs to (X, by its place): the last late one shortly before it was told; where none
    was late, the last that had begun. Empty without blocks."""
    return _matched(of)[0]


def explained(of: Seen) -> int:
    """How many xruns were told while, or shortly after, a block was late."""
    return int(_matched(of)[1].sum())


def _matched(of: Seen) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Both: the place of each xrun's block, and whether that was late."""
    heard, blocks = of.recording.heard, of.blocks
    if heard is None or blocks is None or not len(blocks.start):
        return np.zeros(0, np.int64), np.zeros(0, np.bool_)
    begun = np.maximum(np.searchsorted(blocks.start, heard.xrun_time, "right") - 1, 0)
    late = np.flatnonzero(blocks.late)
    before = np.searchsorted(late, begun, "right") - 1
    last = late[np.maximum(before, 0)] if len(late) else np.zeros(len(begun), np.int64)
    is_late = (before >= 0) & (heard.xrun_time - blocks.start[last] <= TOLD_WITHIN + round(blocks.period * 1e9))
    return np.where(is_late, last, begun), is_late
