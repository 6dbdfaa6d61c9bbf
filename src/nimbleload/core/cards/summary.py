"""What runs of a plugin come to: a cell of its cost card."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .card import Cell, Condition

# So many interruptions are kept of each cell.
INTERRUPTIONS_KEPT = 64


def summarise(
    runs_ns: NDArray[np.int64], quiet: bool, rate: int, buffer: int, condition: Condition,
    own_ns: NDArray[np.int64] | None = None,
) -> Cell:  # fmt: skip
    """A measured cell from R runs over the same B blocks (R, B, int64, ns). ValueError if there are none.

    The plugin's own time for each block is what is given (B, int64, ns), or else the least over the runs; what is above
    it is the machine's.
    """
    if runs_ns.size == 0:
        raise ValueError("a cell needs at least one measured block")
    if own_ns is None:
        own_ns = runs_ns.min(axis=0)
    added = np.maximum(runs_ns - own_ns, 0)
    clear = np.sort(added[added > own_ns // 4 + 1000])
    picked = clear[np.linspace(0, len(clear) - 1, min(len(clear), INTERRUPTIONS_KEPT)).round().astype(int)]
    interrupted = np.clip(picked, 0, np.iinfo(np.int32).max).astype("<i4").tobytes()
    p50, p95, p99, p999 = np.percentile(own_ns, (50, 95, 99, 99.9)) / 1e9
    kept = np.clip(own_ns[:4096], 0, np.iinfo(np.int32).max).astype("<i4")
    return Cell(
        rate, buffer, condition, float(own_ns.mean()) / 1e9, float(p50), float(p95), float(p99), float(p999),
        float(own_ns.max()) / 1e9, float(added.mean()) / 1e9, quiet, "measured", kept.tobytes(),
        float(runs_ns.sum()) / 1e9, len(clear), interrupted,
    )  # fmt: skip
