"""How much is measured. By itself, so that whoever only says so does not load what measures."""

from __future__ import annotations

import msgspec

# With less time for a cell than this (seconds) no detail is tried for longer than it takes if nobody else is there.
PATIENT_SECONDS = 0.05


class Effort(msgspec.Struct, frozen=True):
    """How much to measure: `runs` from the same fresh state, and about `seconds` of clock time for each cell. So many
    seconds (`filling`) are taken to see whether a plugin gets dearer as it sounds on. What others disturbed is measured
    once more in so many `rounds` at most."""

    runs: int = 5
    seconds: float = 0.1
    filling: float = 2.0
    rounds: int = 4

    @property
    def is_patient(self) -> bool:
        """Whether details wait for those who share the core."""
        return self.seconds >= PATIENT_SECONDS


# What a first figure is measured with.
FIRST = Effort(2, 0.02, 0.1, 0)
