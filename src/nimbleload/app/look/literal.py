"""Names in what Qt reads: as they are, whatever they hold."""

from __future__ import annotations


def literal(name: str) -> str:
    """A name for a button or a menu, where & would stand for a key."""
    return name.replace("&", "&&")
