"""What a session holds, in words."""

from __future__ import annotations

from ..session.session import Session
from ..units import count


def held(session: Session) -> str:
    """How many tracks, buses, returns and plugins there are, as a sentence; what there is none of is left out."""
    kinds = [strip.kind for strip in session.strips]
    parts = [count(kinds.count(kind), kind) for kind in ("track", "bus", "return") if kind in kinds]
    plugins = sum(len(strip.uses()) for strip in session.strips)
    if not parts:
        return "The session is empty."
    return f"{', '.join([*parts, count(plugins, 'plugin')])}."
