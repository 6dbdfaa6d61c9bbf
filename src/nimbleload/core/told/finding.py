"""A finding about the computer: what is seen, why it matters for audio blocks, what to do."""

from __future__ import annotations

from typing import Literal, NamedTuple

from ..computer.facts import Facts

Grade = Literal["matters", "note", "well", "unseen"]
GRADES: tuple[Grade, ...] = ("matters", "note", "unseen", "well")
GRADE_WORDS: dict[Grade, str] = {
    "matters": "Matters",
    "note": "Worth knowing",
    "unseen": "Cannot be seen here",
    "well": "In order",
}


class Finding(NamedTuple):
    """One finding: `seen` is the evidence, `why` the reason; `now` and `lasting` are commands to copy (or empty)."""

    name: str
    grade: Grade
    seen: str
    why: str = ""
    now: str = ""
    lasting: str = ""


def maybe_virtual(of: Facts) -> str:
    """That it is no wonder that something is not told."""
    return " That is usual for a virtual computer." if of.is_virtual else ""
