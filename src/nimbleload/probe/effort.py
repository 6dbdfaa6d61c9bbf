"""How much is measured. By itself, so that whoever only says so does not load what measures."""

from __future__ import annotations

import msgspec


class Effort(msgspec.Struct, frozen=True):
    """How much to measure: `runs` from the same fresh state, and about `seconds` of clock time for each cell. So many
    seconds (`filling`) are taken to see whether a plugin gets dearer as it sounds on."""

    runs: int = 5
    seconds: float = 0.1
    filling: float = 2.0


# What a first figure is measured with.
FIRST = Effort(2, 0.03, 0.1)
