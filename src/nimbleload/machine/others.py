"""What other programs compute while a host is watched, and how often devices interrupt, about once a second: whose
work falls together with dropouts; and which processes a host has started.

Read again and again, so files stay open. What comes and goes between two looks is not seen.
"""

from __future__ import annotations

import contextlib
import os
import re
import time
from collections import deque
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import NamedTuple

from ..core.watching.records import Others
from ..native.reading import text
from .background import interrupts_so_far
from .processes import PROC, TICKS, below, program, stat

# An hour of looks; so many processes at most. Less of a core is not kept.
MOST, PROCESSES, LEAST = 3600, 3000, 0.02
# What interrupts less often a second is not kept.
SELDOM = 20.0
# The queues of a network card or a disk are one device.
QUEUE = re.compile(r"(:queue_\d+|q\d+|-((TxRx|tx|rx|input|output|req|config|event)[-.]?\d*|\d+)|\[.*\])$", re.ASCII)
# Where a network card is read from without interrupts while a lot comes, this still counts.
NETWORK, RECEIVED = "the network", "NET_RX"
OWN = "Nimble Load"
# What the kernel calls its workers: which of them does some work says nothing.
WORKER = re.compile(r"(kworker|ksoftirqd|migration|irq_work)/.*")


class _Process(NamedTuple):
    file: int
    name: str
    parent: int


class OtherPrograms:
    """Looks at all processes below a root folder but for the watched ones. This program and what it has started count
    as one."""

    def __init__(self, root: Path = PROC) -> None:
        self._root = root
        self._open: dict[int, _Process] = {}
        self._spent: dict[int, int] = {}
        self._last = 0
        self._interrupts: dict[str, int] = {}
        self.found: deque[Others] = deque(maxlen=MOST)

    def follow(self) -> None:
        """Finds processes that are new, and those that have ended."""
        there = {int(name) for name in os.listdir(self._root) if name.isdigit()}  # noqa: PTH208 (once a second)
        for number in self._open.keys() - there:
            self._forget(number)
        for number in sorted(there - self._open.keys())[: PROCESSES - len(self._open)]:
            with contextlib.suppress(OSError, ValueError, IndexError):  # it has ended already
                self._begin(number)

    def below(self, numbers: Sequence[int]) -> list[int]:
        """Processes and all below them, as far as these have been found."""
        return below(numbers, {number: each.parent for number, each in self._open.items()})

    def look(self, watched: Collection[int]) -> None:
        """Looks once; the first time there is nothing to tell yet."""
        now = time.monotonic_ns()
        self.follow()
        took: dict[str, float] = {}
        for number in sorted(self._open.keys() - set(watched)):
            spent = self._read(number)
            if spent is None:
                continue
            before = self._spent.get(number)
            self._spent[number] = spent
            if before is not None and spent > before and self._last:
                name = self._name(number)
                took[name] = took.get(name, 0.0) + (spent - before) / TICKS / ((now - self._last) / 1e9)
        last, self._interrupts = self._interrupts, self._interrupted()
        if self._last:
            seconds = (now - self._last) / 1e9
            often = {name: (so_far - last.get(name, so_far)) / seconds for name, so_far in self._interrupts.items()}
            self.found.append(Others(
                now, {name: share for name, share in took.items() if share >= LEAST},
                {name: rate for name, rate in often.items() if rate >= SELDOM},
            ))  # fmt: skip
        self._last = now

    def _interrupted(self) -> dict[str, int]:
        """How often each device has interrupted so far, and how often something was received from the network."""
        found: dict[str, int] = {}
        for name, by_core in (interrupts_so_far(self._root, is_device=True) or {}).items():
            device = QUEUE.sub("", name)
            found[device] = found.get(device, 0) + sum(by_core)
        for line in (text(self._root / "softirqs") or "").splitlines():
            label, _, counts = line.partition(":")
            if label.strip() == RECEIVED:
                found[NETWORK] = sum(int(word) for word in counts.split() if word.isdigit())
        return found

    def _read(self, number: int) -> int | None:
        """What a process has spent so far (ticks); None if it has ended."""
        try:
            words = _words(self._open[number].file)
            return int(words[11]) + int(words[12])
        except (OSError, ValueError, IndexError):
            self._forget(number)
            return None

    def _begin(self, number: int) -> None:
        name, fields = stat(self._root / str(number) / "stat")
        # The kernel's own threads have no command.
        called = program(number, self._root) or WORKER.sub(r"\1", name)
        file = os.open(self._root / str(number) / "stat", os.O_RDONLY | os.O_CLOEXEC)
        self._open[number] = _Process(file, called, int(fields[1]))

    def _forget(self, number: int) -> None:
        os.close(self._open.pop(number).file)
        self._spent.pop(number, None)

    def _name(self, number: int) -> str:
        """What it is called; all of this program's own family as that."""
        own, met, at = os.getpid(), set[int](), number
        while at in self._open and at != own and at not in met:
            met.add(at)
            at = self._open[at].parent
        return OWN if at == own else self._open[number].name

    def close(self) -> None:
        for number in list(self._open):
            self._forget(number)


def _words(file: int) -> Sequence[bytes]:
    """What stands behind the name in a process's line: its state, its parent, and so on."""
    return os.pread(file, 1024, 0).rpartition(b")")[2].split()
