"""The computer that figures measured here are from, as one that is to play a session."""

from __future__ import annotations

from ..core.session.computer import Machine, kept_on, seen_from
from ..native.cores import cores


def this_computer() -> Machine:
    """All the cores that this process may use."""
    found = cores()
    count, slow_second = len(found.order), sum(len(found.beside(core)) for core in found.slow)
    return Machine(
        count, measured_cores=count, second=count - found.real, slow=len(found.slow) + slow_second,
        slow_second=slow_second,
    )  # fmt: skip


def part_of_it(count: int) -> Machine:
    """So many of them at most, those that are worth most."""
    return kept_on(count, this_computer())


def from_here(machine: Machine, count: int | None = None) -> Machine:
    """A saved machine as it is seen here; or one with so many cores, if that is asked for."""
    if count is not None and (machine.kept or count != machine.cores):
        machine = Machine(count, machine.speed)
    return seen_from(machine, this_computer())
