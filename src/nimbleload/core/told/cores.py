"""The cores that a session is planned for, in words."""

from __future__ import annotations

from ..session.computer import Machine
from ..units import count


def cores_words(of: Machine) -> str:
    """How many cores a session is planned for."""
    return f"{of.cores} of {count(of.measured_cores, 'core')}" if of.kept else count(of.cores, "core")


def part_words(of: Machine, here: Machine) -> str:
    """The cores that a host is kept on, and which of a computer's these are."""
    which = ["the fast ones"] if here.slow and not of.slow else []
    which += ["one thread of each"] if here.second and not of.second else []
    return f"{cores_words(of)} ({', '.join(which)})"
