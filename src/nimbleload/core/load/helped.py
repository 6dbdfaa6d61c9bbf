"""What would have kept blocks of a rehearsal from being late: tried on these blocks themselves.

Each late block is computed once more, by the time that each strip took in it, with and without a plugin or with a
track played from its file; what that takes off is taken off the real block. Blocks of a rehearsal begin anew after a
late one, so that each is late by itself.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..block.schedule import makespans
from ..session.routing import Graph

# So many plugins and tracks are tried at most, on so many late blocks; so many times the buffer.
TRIED, BLOCKS, TIMES = 8, 2000, (2, 4, 8)


class Helped(msgspec.Struct, frozen=True):
    """How many of so many `late` blocks would have been late all the same: `without` a plugin (by id of its use), with
    a track `frozen` (by id of its strip). In `larger` blocks (by their size in samples): how many of them would have
    been late, and how many there would have been."""

    late: int = 0
    without: dict[str, int] = {}
    frozen: dict[str, int] = {}
    larger: dict[int, tuple[int, int]] = {}


class Played(msgspec.Struct, frozen=True):
    """What was played on so many `cores`: B blocks of `buffer` samples, each of which may last `period` (ns), when each
    was `due`, began (`begin`) and ended (ns); for how long (ns) each of S `tasks` ran (B, S), and each of U `uses`
    (B, U); `of_strip` (U) says whose they are."""

    graph: Graph
    cores: int
    buffer: int
    period: float
    due: NDArray[np.int64]
    begin: NDArray[np.int64]
    end: NDArray[np.int64]
    tasks: NDArray[np.int64]
    uses: NDArray[np.int32]
    of_strip: NDArray[np.int64]


def helped(of: Played, uses: Sequence[str], strips: Sequence[str], can_freeze: NDArray[np.bool_]) -> Helped:
    """What would have helped: `uses` and `strips` are their ids, `can_freeze` (S) says which are tracks."""
    late = np.flatnonzero(of.end > of.due + of.period)
    if not len(late):
        return Helped()
    chosen = late[np.linspace(0, len(late) - 1, min(BLOCKS, len(late))).astype(np.int64)]
    rows, own = of.tasks[chosen] / 1e9, of.uses[chosen] / 1e9
    by = (of.end - of.due)[chosen] / 1e9 - of.period / 1e9
    now, _ = makespans(of.graph, rows, of.cores)

    def still(numbers: Sequence[int]) -> int:
        less = rows.copy()
        for use in numbers:
            less[:, of.of_strip[use]] -= own[:, use]
        then, _ = makespans(of.graph, np.maximum(less, 0.0), of.cores)
        return round(float((by > now - then).mean()) * len(late))

    dearest = np.argsort(-own.sum(axis=0), kind="stable")[:TRIED].tolist()
    of_track = np.bincount(of.of_strip, own.sum(axis=0), len(strips)) * can_freeze
    tracks = [k for k in np.argsort(-of_track, kind="stable")[:TRIED].tolist() if of_track[k] > 0]
    return Helped(
        len(late), {uses[k]: still([k]) for k in dearest},
        {strips[k]: still(np.flatnonzero(of.of_strip == k).tolist()) for k in tracks},
        {times * of.buffer: _larger(of, times) for times in TIMES if len(of.due) >= times},
    )  # fmt: skip


def _larger(of: Played, times: int) -> tuple[int, int]:
    """How many blocks of so many times the size would have been late, of how many: wherever they begin, the most."""
    took = (of.end - of.due).astype(np.float64)
    number, most = len(took) // times, 0
    for phase in range(min(times, len(took) - number * times + 1)):
        whole = took[phase : phase + number * times].reshape(number, times).sum(axis=1)
        most = max(most, int((whole > times * of.period).sum()))
    return most, number
