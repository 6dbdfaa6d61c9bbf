"""A session as an exchange file, as it is: without its plan, which carrying out writes."""

from __future__ import annotations

from pathlib import Path

from ..core.cards.card import Cards
from ..core.session.session import Session
from ..store import dawproject, dawproject_out
from ..store.archive import ImportRefusedError
from .resting import rests


def export(path: Path, session: Session, cards: Cards) -> list[str]:
    """Writes a session; what the format cannot say of it, in sentences. OSError if it cannot be written.

    Tracks that are suspended while they are silent get automation that switches their plugins off. What another
    program wrote is never written over.
    """
    if path.exists() and not _is_ours(path):
        raise OSError(f"{path} was written by another program, and stays as it is")
    spans = rests(session, cards) if any(strip.suspended for strip in session.strips) else {}
    dawproject_out.write(path, session, resting={s.id: spans[s.id] for s in session.strips if s.suspended})
    return dawproject_out.left_out(session)


def _is_ours(path: Path) -> bool:
    try:
        return dawproject.read(path).report.program.startswith(dawproject_out.PROGRAM)
    except ImportRefusedError:
        return False
