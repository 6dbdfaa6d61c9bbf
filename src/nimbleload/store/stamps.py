"""Whether a file is still as it was when it was last read or written here, seen from outside."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple


class Stamp(NamedTuple):
    """When a file was written last (nanoseconds since 1970), and its size (bytes)."""

    written: int
    size: int


def stamp_of(path: Path) -> Stamp | None:
    """How a file looks now; None if it is not there, or cannot be asked about."""
    try:
        found = path.stat()
    except OSError:
        return None
    return Stamp(found.st_mtime_ns, found.st_size)


class Stamps:
    """How files looked when they were last read or written here."""

    def __init__(self) -> None:
        self._known: dict[Path, Stamp | None] = {}
        self._told: dict[Path, Stamp] = {}

    def note(self, path: Path, stamp: Stamp | None) -> None:
        """A file was read, or written, when it looked so."""
        self._known[path] = stamp

    def is_changed(self, path: Path) -> bool:
        """Whether a file that is known here, and is there, has been written by somebody else since."""
        return self._changed(path) is not None

    def is_news(self, path: Path) -> bool:
        """The same, and it has not been told so before of what the file is now."""
        now = self._changed(path)
        if now is None or self._told.get(path) == now:
            return False
        self._told[path] = now
        return True

    def _changed(self, path: Path) -> Stamp | None:
        """How a file looks that somebody else has written; None if nobody has, or it is gone or not known."""
        now = stamp_of(path) if path in self._known else None
        return now if now != self._known.get(path) else None
