"""What this computer was found to hold, kept until it is started again: settings may be others after that."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec
import platformdirs

from ..core.computer.ceiling import Ceiling, merged
from ..native.decoding import decoded
from . import atomic

BOOT = Path("/proc/sys/kernel/random/boot_id")
# Which work was held: what was found with another is found again.
WORK = "vectors, filters, delays"


class Kept(msgspec.Struct, frozen=True):
    """The ceilings, during which run of the computer they were found, and with which work."""

    boot: str
    work: str = ""
    ceilings: tuple[Ceiling, ...] = ()


def file() -> Path:
    """Where ceilings are kept, whether it is there or not."""
    return Path(platformdirs.user_cache_dir("nimble-load")) / "ceiling.json"


def boot() -> str:
    """What names this run of the computer; empty if nothing does."""
    try:
        return BOOT.read_text().strip()
    except OSError:
        return ""


def read(path: Path | None = None) -> tuple[Ceiling, ...]:
    """The ceilings that were found since the computer was started; empty if there are none."""
    try:
        kept = decoded((path or file()).read_bytes(), Kept)
    except (OSError, msgspec.MsgspecError):
        return ()  # what was found can be found again
    return kept.ceilings if (kept.boot, kept.work) == (boot(), WORK) else ()


def keep(found: Sequence[Ceiling], path: Path | None = None) -> None:
    """Keeps them beside those of other sizes. OSError if they cannot be written."""
    path = path or file()
    path.parent.mkdir(parents=True, exist_ok=True)
    atomic.write(path, msgspec.json.encode(Kept(boot(), WORK, tuple(merged(read(path), found)))))
