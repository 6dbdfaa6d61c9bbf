"""The same work from a shell, JSON on request."""

from . import cards, library, plan, prove, session
from .common import cli

__all__ = ["cards", "cli", "library", "plan", "prove", "session"]
