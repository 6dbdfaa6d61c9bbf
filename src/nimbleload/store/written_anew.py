"""Whether the exchange file that a session came from holds another project by now."""

from __future__ import annotations

from pathlib import Path

from ..core.session.session import Session
from .archive import WHERE, Archive, ImportRefusedError


def stamp(path: Path) -> str:
    """How the project in an exchange file looks from outside: as long as this is the same, so is the project. Empty if
    it is not there, or no such file."""
    try:
        with Archive(path) as archive:
            return archive.stamp(WHERE) if WHERE in archive else ""
    except ImportRefusedError:
        return ""


def is_written_anew(session: Session) -> bool:
    """Whether the exchange file that a session came from holds another project now: its ids may mean other things."""
    return bool(session.source_stamp) and is_another(session, stamp(Path(session.source)))


def is_another(session: Session, now: str) -> bool:
    """The same of a file that has this stamp now; where either is not known nothing is said."""
    return bool(session.source_stamp and now) and now != session.source_stamp
