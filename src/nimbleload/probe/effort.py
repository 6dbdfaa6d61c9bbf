"""How much is measured. By itself, so that whoever only says so does not load what measures."""

from __future__ import annotations

import msgspec

# With less time for a cell than this (seconds) all is done once: what others disturbed is not measured again, and no
# detail is tried for longer than it takes if nobody else is there.
LEAST_SECONDS = 0.05


class Effort(msgspec.Struct, frozen=True):
    """How much to measure: `runs` from the same fresh state, and about `seconds` of clock time for each cell. So many
    seconds (`filling`) are taken to see whether a plugin gets dearer as it sounds on."""

    runs: int = 5
    seconds: float = 0.1
    filling: float = 2.0

    @property
    def is_brief(self) -> bool:
        """Whether all is done once."""
        return self.seconds < LEAST_SECONDS


# What a first figure is measured with.
FIRST = Effort(2, 0.03, 0.1)
