"""How much memory a worker may take with all that it starts, and how it is told that it took more."""

from __future__ import annotations

from pathlib import Path

from ..native.reading import in_meminfo

ROOT = Path("/")
# Under this name it stands in a worker's environment (bytes).
SPARE = "NIMBLE_LOAD_SPARE_MEMORY"
# As which exit code it is told that a worker took more.
TOOK_TOO_MUCH = 1000


def spare(root: Path = ROOT) -> int:
    """How much memory a worker may take now (bytes); 0 where that is not known."""
    from ..core.load.memory import ROOM  # imported here: a supervisor does without

    return int(ROOM * (in_meminfo(root, "MemAvailable") or 0))
