"""The same work from a shell, JSON on request."""

from .common import cli

__all__ = ["cli"]
