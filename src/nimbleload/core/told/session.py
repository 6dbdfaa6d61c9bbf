"""What a session holds, in words."""

from __future__ import annotations

from ..session.session import Session


def counted(number: int, what: str) -> str:
    """So many of something: "1 track", "3 tracks", "2 buses"."""
    if number == 1:
        return f"1 {what}"
    return f"{number} {what}es" if what.endswith("s") else f"{number} {what}s"


def held(session: Session) -> str:
    """How many tracks, buses, returns and plugins there are, as a sentence; what there is none of is left out."""
    kinds = [strip.kind for strip in session.strips]
    parts = [counted(kinds.count(kind), kind) for kind in ("track", "bus", "return") if kind in kinds]
    plugins = sum(len(strip.uses()) for strip in session.strips)
    if not parts:
        return "The session is empty."
    return f"{', '.join([*parts, counted(plugins, 'plugin')])}."
