"""What was seen before something was changed in a host, to compare with."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from .blocks import Seen
from .core_clocks import clock
from .shares import Change, Share, changes


class Before(NamedTuple):
    """Who took what, by the names of rows; and the blocks that were seen: their `period` (seconds; 0: none were found),
    how full a typical one was and one in a hundred, and how many were late in so many `seconds`; and at which
    `clock` the engine computed (Hz; 0: not told)."""

    rows: dict[str, Share]
    period: float
    typical: float
    bad: float
    late: int
    seconds: float
    clock: float = 0.0

    @classmethod
    def of(cls, seen: Seen, rows: Mapping[str, Share]) -> Before:
        """What is seen now, for later."""
        blocks, seconds, ran_at = seen.blocks, seen.recording.seconds, _clock(seen)
        if blocks is None:
            return cls(dict(rows), 0.0, 0.0, 0.0, 0, seconds, ran_at)
        return cls(dict(rows), blocks.period, blocks.typical, blocks.bad, blocks.dropouts, seconds, ran_at)

    def slower(self, seen: Seen) -> float:
        """How many times slower the engine's cores run now; 1 where that is not told."""
        now = _clock(seen)
        return self.clock / now if self.clock and now else 1.0

    def changes(self, rows: Mapping[str, Share], seen: Seen) -> list[Change]:
        """What has changed since, row by row of what is `seen` now."""
        return changes(self.rows, dict(rows), self.slower(seen))


def _clock(seen: Seen) -> float:
    found = clock(seen)
    return found.now if found is not None else 0.0
