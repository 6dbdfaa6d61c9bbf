"""What was seen before something was changed in a host, to compare with."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from .blocks import Seen
from .shares import Change, Share, changes


class Before(NamedTuple):
    """Who took what, by the names of rows; and the blocks that were seen: their `period` (seconds; 0: none were found),
    how full a typical one was and one in a hundred, and how many were late in so many `seconds`."""

    rows: dict[str, Share]
    period: float
    typical: float
    bad: float
    late: int
    seconds: float

    @classmethod
    def of(cls, seen: Seen, rows: Mapping[str, Share]) -> Before:
        """What is seen now, for later."""
        blocks, seconds = seen.blocks, seen.recording.seconds
        if blocks is None:
            return cls(dict(rows), 0.0, 0.0, 0.0, 0, seconds)
        return cls(dict(rows), blocks.period, blocks.typical, blocks.bad, blocks.dropouts, seconds)

    def changes(self, rows: Mapping[str, Share]) -> list[Change]:
        """What has changed since, row by row."""
        return changes(self.rows, dict(rows))
