"""What other programs do meanwhile: counters read twice, some seconds apart."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path
from typing import NamedTuple

from ..core.computer.facts import Busy
from ..native.reading import inside, pairs, text
from .processes import cpu_seconds, program, stat

MOST_SHOWN = 12
CORES = os.cpu_count() or 1


class Counted(NamedTuple):
    """What one process has taken so far: CPU (seconds), times it woke up, bytes from and to disks; `parent` is the
    number of that which started it. What it had started itself, and has ended, took so much CPU (`ended`, seconds)."""

    name: str
    cpu: float
    wakes: int
    disk: int
    parent: int = 0
    ended: float = 0.0


class Sample(NamedTuple):
    """All counters at one time; None where they cannot be read."""

    processes: dict[int, Counted]
    ticks: tuple[int, ...] | None
    swapped: int | None
    interrupts: dict[str, tuple[int, ...]] | None


def sample(root: Path) -> Sample:
    """Reads all counters."""
    found = {}
    for folder in inside(root / "proc", "[0-9]*"):
        with contextlib.suppress(OSError, ValueError, IndexError):
            found[int(folder.name)] = _counted(folder, root)
    line = next((part for part in (text(root / "proc/stat") or "").splitlines() if part.startswith("cpu ")), None)
    ticks = tuple(int(word) for word in line.split()[1:]) if line else None
    paging = dict(part.split()[:2] for part in (text(root / "proc/vmstat") or "").splitlines() if len(part.split()) > 1)
    swapped = int(paging["pswpin"]) + int(paging["pswpout"]) if {"pswpin", "pswpout"} <= paging.keys() else None
    return Sample(found, ticks, swapped, interrupts_so_far(root / "proc"))


def _counted(folder: Path, root: Path) -> Counted:
    name, fields = stat(folder / "stat")
    wakes, disk = 0, 0
    for task in inside(folder / "task", "[0-9]*"):
        switched = pairs(task / "status")
        wakes += int(switched.get("voluntary_ctxt_switches", 0))
    with contextlib.suppress(OSError):
        moved = pairs(folder / "io")
        disk = int(moved.get("read_bytes", 0)) + int(moved.get("write_bytes", 0))
    called = program(int(folder.name), root / "proc") or name
    return Counted(called, cpu_seconds(fields), wakes, disk, int(fields[1]), cpu_seconds(fields[2:]))


def interrupts_so_far(proc: Path, is_device: bool = False) -> dict[str, tuple[int, ...]] | None:
    """Every source of interrupts, or every device among them, with its count for each core; the names of what shares a
    line stand together. None where the kernel does not tell them in its folder `proc`."""
    lines = (text(proc / "interrupts") or "").splitlines()
    if not lines:
        return None
    count = len(lines[0].split())
    found: dict[str, tuple[int, ...]] = {}
    for line in lines[1:]:
        label, _, rest = line.partition(":")
        label, words = label.strip(), rest.split()
        has_number = label.isdigit()  # as lines of devices have; others have a name
        if is_device and not has_number:
            continue
        counts = [int(word) for word in words[:count] if word.isdigit()]
        if len(counts) == count:
            # Behind the counts: controller, line, kind, then the names of the devices.
            name = " ".join(words[count + 2 * has_number :]) or label
            # One device may have several lines.
            before = found.get(name, (0,) * count)
            found[name] = tuple(a + b for a, b in zip(before, counts, strict=True))
    return found


def _is_own(number: int, of: Sample) -> bool:
    """Whether a process is this one, or was started by it, directly or not."""
    met: set[int] = set()
    while number not in met and number != os.getpid():
        met.add(number)
        number = of.processes[number].parent if number in of.processes else number
    return number == os.getpid()


def busy_between(first: Sample, last: Sample, seconds: float) -> tuple[Busy, ...]:
    """What programs did between two samples, but for this one and what it has started; the busiest first, as many as
    are worth showing. What began and ended in between is that of whoever started it."""
    found = []
    gone = [(each.parent, each.cpu + each.ended) for number, each in first.processes.items()
            if number not in last.processes]  # fmt: skip
    # Of those whose parent has ended as well somebody else was told.
    orphans = sum(spent for parent, spent in gone if parent not in last.processes)
    for number, after in last.processes.items():
        before = first.processes.get(number)
        if before is None or _is_own(number, last):
            continue
        known = sum(spent for parent, spent in gone if parent == number) + orphans
        started = max(after.ended - before.ended - known, 0.0) / seconds
        started = started if started <= CORES else 0.0
        cpu = max(after.cpu - before.cpu, 0.0) / seconds + started
        wakes, disk = (max(b - a, 0) / seconds for a, b in ((before.wakes, after.wakes), (before.disk, after.disk)))
        if cpu or wakes or disk:
            found.append(Busy(number, after.name, cpu, wakes, disk, started))
    return tuple(sorted(found, key=lambda each: (-each.cpu, -each.wakes, each.number))[:MOST_SHOWN])
