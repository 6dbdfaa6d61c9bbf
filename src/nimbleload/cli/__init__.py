"""The same work from a shell, JSON on request."""

from . import cards, library, prove, session
from .common import cli

__all__ = ["cards", "cli", "library", "prove", "session"]
