"""The same work from a shell, JSON on request."""

from . import cards, carry, edit, guide, library, machine, pare, plan, prepare, prove, session, watch
from .common import cli

__all__ = [
    "cards", "carry", "cli", "edit", "guide", "library", "machine", "pare", "plan", "prepare", "prove", "session",
    "watch",
]  # fmt: skip
