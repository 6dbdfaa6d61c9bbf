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
from ..session.routing import build
from ..session.session import Session

# So many plugins and tracks are tried at most, on so many late blocks; so many times the buffer.
TRIED, BLOCKS, TIMES = 8, 100, (2, 4, 8)


class Helped(msgspec.Struct, frozen=True):
    """How many of so many `late` blocks would have been late all the same: `without` a plugin (by id of its use), with
    a track `frozen` (by id of its strip). In `larger` blocks (by their size in samples): how many of them would have
    been late, and how many there would have been."""

    late: int = 0
    without: dict[str, int] = {}
    frozen: dict[str, int] = {}
    larger: dict[int, tuple[int, int]] = {}


class LateBlocks(msgspec.Struct, frozen=True):
    """Some of so many `late` blocks (L): how late each was (`by`), and for how long each of S strips and of U plugins
    ran in it (L rows each), all in ns. `placed` are the ids of these plugins' uses; `larger` is as in `Helped`."""

    late: int
    by: tuple[int, ...]
    strips: tuple[tuple[int, ...], ...]
    uses: tuple[tuple[int, ...], ...]
    placed: tuple[str, ...]
    larger: dict[int, tuple[int, int]]


def late_blocks(
    buffer: int, period: float, due: NDArray[np.int64], end: NDArray[np.int64], strips: NDArray[np.int64],
    uses: NDArray[np.int32], placed: Sequence[str],
) -> LateBlocks | None:  # fmt: skip
    """Those of B blocks of `buffer` samples that were late, evenly chosen; None if none was. When each was `due` and
    ended, what strips (B, S) and plugins (B, U) took, and how long a block may take (`period`), all in ns."""
    late = np.flatnonzero(end > due + period)
    if not len(late):
        return None
    chosen = late[np.linspace(0, len(late) - 1, min(BLOCKS, len(late))).astype(np.int64)]
    by = np.ceil((end - due)[chosen] - period).astype(np.int64)
    took = (end - due).astype(np.float64)
    larger = {times * buffer: _larger(took, period, times) for times in TIMES if len(due) >= times}
    of_strips, of_uses = (tuple((*row,) for row in each[chosen].tolist()) for each in (strips, uses))
    return LateBlocks(len(late), (*by.tolist(),), of_strips, of_uses, tuple(placed), larger)


def _larger(took: NDArray[np.float64], period: float, times: int) -> tuple[int, int]:
    """How many blocks of so many times the size would have been late, of how many: wherever they begin, the most."""
    number, most = len(took) // times, 0
    for phase in range(min(times, len(took) - number * times + 1)):
        whole = took[phase : phase + number * times].reshape(number, times).sum(axis=1)
        most = max(most, int((whole > times * period).sum()))
    return most, number


def helped(session: Session, cores: int, of: LateBlocks) -> Helped:
    """What would have helped where a session was played on so many cores. ValueError if the blocks are none of it."""
    number = {use.id: k for k, strip in enumerate(session.strips) for use in strip.uses()}
    ids = [strip.id for strip in session.strips]
    rows, own = (np.array(each, np.float64).reshape(len(of.by), -1) / 1e9 for each in (of.strips, of.uses))
    is_whole = rows.shape[1] == len(ids) and own.shape[1] == len(of.placed) and set(of.placed) <= number.keys()
    if not is_whole or min(rows.min(initial=0.0), own.min(initial=0.0)) < 0:
        raise ValueError("the late blocks are not those of this session")
    whose = np.array([number[use] for use in of.placed], np.int64)
    by, graph = np.array(of.by) / 1e9, build(session)
    now, _ = makespans(graph, rows, cores)

    def still(uses: Sequence[int]) -> int:
        less = rows.copy()
        for use in uses:
            less[:, whose[use]] -= own[:, use]
        then, _ = makespans(graph, np.maximum(less, 0.0), cores)
        return round(float((by > now - then).mean()) * of.late)

    took = own.sum(axis=0)
    dearest = np.argsort(-took, kind="stable")[:TRIED].tolist()
    may = [strip.kind == "track" and not strip.is_frozen(-1) for strip in session.strips]
    of_track = np.bincount(whose, took, len(ids)) * may
    tracks = [k for k in np.argsort(-of_track, kind="stable")[:TRIED].tolist() if of_track[k] > 0]
    return Helped(
        of.late, {of.placed[k]: still([k]) for k in dearest},
        {ids[k]: still(np.flatnonzero(whose == k).tolist()) for k in tracks}, of.larger,
    )  # fmt: skip
