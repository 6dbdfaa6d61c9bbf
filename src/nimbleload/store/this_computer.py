"""The computer that figures measured here are from, as one that is to play a session."""

from __future__ import annotations

from pathlib import Path

from ..core.session.computer import Machine, kept_on, seen_from
from ..native.cores import cores
from ..native.reading import as_number, in_meminfo, text

ROOT = Path("/")


def this_computer() -> Machine:
    """All the cores that this process may use."""
    found = cores()
    count, slow_second = len(found.order), sum(len(found.beside(core)) for core in found.slow)
    return Machine(
        count, measured_cores=count, second=count - found.real, slow=len(found.slow) + slow_second,
        slow_second=slow_second, memory=memory_of(ROOT),
    )  # fmt: skip


def part_of_it(count: int) -> Machine:
    """So many of them at most, those that are worth most."""
    return kept_on(count, this_computer())


def from_here(machine: Machine, count: int | None = None) -> Machine:
    """A saved machine as it is seen here; or one with so many cores, if that is asked for."""
    if count is not None and (machine.kept or count != machine.cores):
        machine = Machine(count, machine.speed)
    return seen_from(machine, this_computer())


def memory_of(root: Path) -> float:
    """How much memory the system under `root` has, or what it is told to use at most (bytes); 0 if it does not say."""
    there = in_meminfo(root, "MemTotal") or 0
    most = as_number(text(root / "sys/fs/cgroup/memory.max"))
    return float(min(there, most) if most else there)
