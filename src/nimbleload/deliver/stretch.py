"""A stretch of a track that is printed by itself: what lies in it, what is left of the track, and both together."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.units import clock
from ..probe.messages import CHANNELS
from ..store.audio import File
from ..store.sounding import Part, Sounding


def inside(of: Sounding, start: float, end: float, rate: int) -> Sounding:
    """What is played from one second to another: audio cut there, to the sample, and notes that begin in it."""
    parts = [cut for part in of.parts for cut in _between(part, start, end, rate)]
    notes = [note for note in of.notes if start <= note.start < end]
    return msgspec.structs.replace(of, parts=tuple(parts), notes=tuple(notes))


def outside(of: Sounding, start: float, end: float, rate: int) -> Sounding:
    """What is played before and after a stretch (seconds): with what is `inside` it is all that is played."""
    spans = ((0.0, start), (end, float("inf")))
    parts = [cut for part in of.parts for span in spans for cut in _between(part, *span, rate)]
    notes = [note for note in of.notes if not start <= note.start < end]
    return msgspec.structs.replace(of, parts=tuple(parts), notes=tuple(notes))


def _between(part: Part, start: float, end: float, rate: int) -> Iterator[Part]:
    """What of a part lies between two seconds, if anything does; its fades stay at its own ends."""
    first, last = round(part.start * rate), round(part.end * rate)
    low, high = max(first, round(start * rate)), min(last, round(end * rate) if end < float("inf") else last)
    if low < high:
        yield msgspec.structs.replace(
            part, start=low / rate, end=high / rate, offset=(round(part.offset * rate) + low - first) / rate,
            fade_in=part.fade_in if low == first else 0.0, fade_out=part.fade_out if high == last else 0.0,
        )  # fmt: skip


def obstacles(of: Sounding, start: float, end: float) -> list[str]:
    """Why a track cannot be cut at the ends of a stretch without changing it, in sentences; empty if it can."""
    found = []
    held = of.held()
    for at in (start, end):
        if any(begin < at < until for begin, until in held):
            found.append(f"notes sound over {clock(at)}: cut where none does")
        fading = [
            part for part in of.parts
            if part.start < at < part.start + part.fade_in or part.end - part.fade_out < at < part.end
        ]  # fmt: skip
        if fading:
            found.append(f"a clip fades at {clock(at)}: cut where none does")
        if any(part.gains and part.start < at < part.end for part in of.parts):
            found.append(f"a clip has a gain curve at {clock(at)}: cut where none has")
    return found


class Added:
    """Sounds (n, 2) together, read piece by piece; the shorter ones are silent where they have ended."""

    def __init__(self, *parts: NDArray[np.float32] | File) -> None:
        self._parts = parts

    def __len__(self) -> int:
        return max(map(len, self._parts))

    def __getitem__(self, which: slice) -> NDArray[np.float32]:
        first, last, _ = which.indices(len(self))
        found = np.zeros((max(last - first, 0), CHANNELS), np.float32)
        for part in self._parts:
            piece = part[first:last]
            found[: len(piece)] += piece
        return found
