"""Cores in words: those that a session is planned for, and those that a command names."""

from __future__ import annotations

from collections.abc import Iterable

from ..computer.facts import Core
from ..session.computer import Machine
from ..units import count


def cores_words(of: Machine) -> str:
    """How many cores a session is planned for, and how fast ones where they are not as fast as measured on."""
    many = f"{of.cores} of {count(of.measured_cores, 'core')}" if of.kept else count(of.cores, "core")
    return many if of.speed == 1 else f"{many}, {of.speed:g} × as fast"


def part_words(of: Machine, here: Machine) -> str:
    """The cores that a host is kept on, and which of a computer's these are."""
    which = ["the fast ones"] if here.slow and not of.slow else []
    which += ["one thread of each"] if here.second and not of.second else []
    return f"{cores_words(of)} ({', '.join(which)})"


def core_list(cores: Iterable[Core]) -> str:
    """Cores by number, as commands take them: "0,2,5-7"."""
    runs: list[list[int]] = []
    for number in sorted(core.number for core in cores):
        if runs and number == runs[-1][-1] + 1:
            runs[-1].append(number)
        else:
            runs.append([number])
    return ",".join(str(run[0]) if len(run) == 1 else f"{run[0]}-{run[-1]}" for run in runs)
