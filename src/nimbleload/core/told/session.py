"""What a session holds, in words."""

from __future__ import annotations

from ..session.session import Session
from ..units import agreeing, count, listed


def held(session: Session) -> str:
    """How many tracks, buses, returns and plugins there are, as a sentence; what there is none of is left out."""
    kinds = [strip.kind for strip in session.strips]
    parts = [count(kinds.count(kind), kind) for kind in ("track", "bus", "return") if kind in kinds]
    plugins = sum(len(strip.uses()) for strip in session.strips)
    if not parts:
        return "The session is empty."
    return f"{', '.join([*parts, count(plugins, 'plugin')])}."


def to_do(session: Session) -> str:
    """What can be done with it next, or what it lacks, in a sentence."""
    tracks = [strip for strip in session.strips if strip.kind == "track"]
    silent = [strip.name for strip in tracks if not strip.clips and not strip.armed]
    if not tracks:
        return "Ctrl+T adds a track; a folder of audio, a MIDI file or a table can be added whole."
    if silent:
        said = agreeing(len(silent), "track has no clips, and never sounds", "tracks have no clips, and never sound")
        return f"{said}: {listed(silent, 4)}."
    return "Everything can be changed here: drag boxes and tracks, draw clips, or use the keys in the menus."
