"""What went wrong with a plugin, in a sentence."""

from __future__ import annotations


def trouble_of(label: str, reason: str, called: str = "") -> str:
    """A sentence on a plugin, of a reason that names it ("Hall has no window") or begins with what it did ("crashed");
    then it is `called` by its label, or otherwise. Any other reason stands behind a colon."""
    reason = reason.rstrip(".")
    if reason.startswith(label):
        return f"{reason}."
    return f"{called or label} {reason}." if reason[:1].islower() else f"{label}: {reason}."
