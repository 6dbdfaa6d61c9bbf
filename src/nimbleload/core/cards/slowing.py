"""What a plugin does to the clock of the core that it runs on.

Processors lower a core's clock while it computes with wide vectors, and for a while after: whatever runs there then
takes longer, too, and none of it shows where each plugin is measured by itself.
"""

from __future__ import annotations

import msgspec


class Slowing(msgspec.Struct, frozen=True):
    """What blocks of `buffer` samples at a rate (Hz) do to the clock of their core, by a known chain of steps.

    After a block that comes once a deadline the core is slower for `seconds` (the mean over blocks; 0: never): steps
    take `by` times as long then. In a row, as cells are measured, they take `row` times as long as at rest. It is
    `known` of such a share of the blocks (0 … 1): of the others somebody else had lowered the clock before.
    """

    rate: int
    buffer: int
    by: float = 1.0
    seconds: float = 0.0
    row: float = 1.0
    known: float = 1.0

    @property
    def told(self) -> tuple[float, float, float]:
        """By how much, for how long, and in a row."""
        return self.by, self.seconds, self.row
