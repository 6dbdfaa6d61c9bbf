"""What processes keep in memory, as /proc tells it without stopping them: their memory is not walked through."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

from ..core.watching.held_memory import Held
from ..native.reading import as_number, pairs
from .processes import PROC


def held(processes: Sequence[int], root: Path = PROC) -> list[Held]:
    """What these processes keep together, in one; none if that is not told of any. What several have together (code,
    shared memory) counts for each."""
    told = [found for number in processes if "RssAnon" in (found := pairs(root / str(number) / "status"))]
    if not told:
        return []

    def bytes_of(*names: str) -> int:
        return sum(as_number(each.get(name)) or 0 for each in told for name in names) << 10

    return [
        Held(
            time.monotonic_ns(), bytes_of("RssAnon", "RssShmem"), bytes_of("RssFile"), bytes_of("VmSwap"),
            bytes_of("VmLck"),
        )
    ]  # fmt: skip
