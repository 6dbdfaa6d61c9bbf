"""What this computer was found to hold, and how long it keeps its pace; until it is started again: settings may be
others after that. What was found on its battery counts while it runs on that."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec
import platformdirs

from ..core.computer.ceiling import Ceiling, merged
from ..core.computer.lasting import Lasting
from ..native.decoding import decoded
from ..native.power import on_battery
from . import atomic

BOOT = Path("/proc/sys/kernel/random/boot_id")
# Which work was held: what was found with another is found again.
WORK = "vectors, filters, delays"


class Kept(msgspec.Struct, frozen=True):
    """The ceilings and the pace that lasts, during which run of the computer they were found, and with which work."""

    boot: str
    work: str = ""
    ceilings: tuple[Ceiling, ...] = ()
    lasting: Lasting | None = None


def file() -> Path:
    """Where ceilings are kept for where its power comes from now, whether it is there or not."""
    return Path(platformdirs.user_cache_dir("nimble-load")) / f"ceiling{'-battery' if on_battery() else ''}.json"


def boot() -> str:
    """What names this run of the computer; empty if nothing does."""
    try:
        return BOOT.read_text().strip()
    except OSError:
        return ""


def _read(path: Path | None) -> Kept:
    """What was found since the computer was started."""
    nothing = Kept(boot(), WORK)
    try:
        kept = decoded((path or file()).read_bytes(), Kept)
    except (OSError, msgspec.MsgspecError):
        return nothing  # what was found can be found again
    return kept if (kept.boot, kept.work) == (nothing.boot, WORK) else nothing


def read(path: Path | None = None) -> tuple[Ceiling, ...]:
    """The ceilings that were found since the computer was started; empty if there are none."""
    return _read(path).ceilings


def read_lasting(path: Path | None = None) -> Lasting | None:
    """For how long it keeps its pace; None if that was not found since the computer was started."""
    return _read(path).lasting


def keep(found: Sequence[Ceiling], path: Path | None = None) -> None:
    """Keeps them beside those of other sizes. OSError if they cannot be written."""
    kept = _read(path)
    _write(msgspec.structs.replace(kept, ceilings=tuple(merged(kept.ceilings, found))), path)


def keep_lasting(found: Lasting, path: Path | None = None) -> None:
    """Keeps for how long it keeps its pace. OSError if it cannot be written."""
    _write(msgspec.structs.replace(_read(path), lasting=found), path)


def _write(kept: Kept, path: Path | None) -> None:
    path = path or file()
    path.parent.mkdir(parents=True, exist_ok=True)
    atomic.write(path, msgspec.json.encode(kept))
