"""What other programs compute while a host is watched, and how often devices interrupt, about once a second: whose
work falls together with dropouts; and which processes a host has started.

Read again and again, so files stay open. What comes and goes between two looks is not seen; what it took is known of
whoever started it, once that has been told of its end. Source: proc_pid_stat(5), cutime and cstime.
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
from .background import CORES, interrupts_so_far
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
# In the place of the parent of processes whose parent has ended as well.
ORPHANS = -1
# What the kernel calls its workers: which of them does some work says nothing.
WORKER = re.compile(r"(kworker|ksoftirqd|migration|irq_work)/.*")


class _Process(NamedTuple):
    file: int
    name: str
    parent: int


class _Spent(NamedTuple):
    """What a process has spent so far (ticks): by itself, and those that it started, ended and was told of."""

    own: int
    ended: int


class OtherPrograms:
    """Looks at all processes below a root folder but for the watched ones. This program and what it has started count
    as one."""

    def __init__(self, root: Path = PROC) -> None:
        self._root = root
        self._open: dict[int, _Process] = {}
        self._spent: dict[int, _Spent] = {}
        # What had been seen already of processes that have ended since the last look, and since the one before (ticks),
        # by who had started them.
        self._gone: dict[int, int] = {}
        self._gone_before: dict[int, int] = {}
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
        spent, interrupts = dict(self._spent), self._interrupts
        for number in sorted(self._open.keys() - set(watched)):
            read = self._read(number)
            if read is not None:
                self._spent[number] = read
        self._interrupts = self._interrupted()
        if self._last:
            seconds = (now - self._last) / 1e9
            known = self._open.keys() & spent.keys() - set(watched)
            took, started = self._taken({number: spent[number] for number in sorted(known)}, seconds)
            often = {
                name: (so_far - interrupts.get(name, so_far)) / seconds for name, so_far in self._interrupts.items()
            }
            self.found.append(Others(
                now, {name: share for name, share in took.items() if share >= LEAST},
                {name: rate for name, rate in often.items() if rate >= SELDOM},
                {name: share for name, share in started.items() if share >= LEAST},
            ))  # fmt: skip
        self._gone, self._gone_before = {}, self._gone
        self._last = now

    def _taken(self, before: dict[int, _Spent], seconds: float) -> tuple[dict[str, float], dict[str, float]]:
        """What programs took since they had spent so much (by number), so many seconds ago, as shares of one core by
        their names; and what those took that they had started, and that have ended."""
        took, started = dict[str, float](), dict[str, float]()
        for by in self._gone.keys() - self._open.keys() - {ORPHANS}:
            self._gone[ORPHANS] = self._gone.get(ORPHANS, 0) + self._gone.pop(by)
        for number, then in before.items():
            name, own, ended = self._name(number), self._spent[number].own - then.own, self._unseen(number, then)
            if own > 0:
                took[name] = took.get(name, 0.0) + own / TICKS / seconds
            share = ended / TICKS / seconds
            # More than all cores had is of something that could not be seen.
            if 0 < share <= CORES and len(self._open) < PROCESSES:
                of = took if name == OWN else started
                of[name] = of.get(name, 0.0) + share
        return took, started

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

    def _unseen(self, number: int, before: _Spent) -> int:
        """What was spent since the last look by processes that this one had started, and that have ended (ticks). What
        of them had been seen before goes from that, now or at the next look, when it is told of their end; and of those
        whose parent ended, too, wherever."""
        ended = self._spent[number].ended - before.ended
        for gone in (self._gone_before, self._gone):
            for by in (number, ORPHANS):
                less = min(gone.get(by, 0), ended)
                ended -= less
                gone[by] = gone.get(by, 0) - less
        return ended

    def _read(self, number: int) -> _Spent | None:
        """What a process has spent so far; None if it has ended."""
        try:
            words = _words(self._open[number].file)
            found = _Spent(int(words[11]) + int(words[12]), int(words[13]) + int(words[14]))
            # Where its parent has ended it has another one.
            if (parent := int(words[1])) != self._open[number].parent:
                self._open[number] = self._open[number]._replace(parent=parent)
            return found
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
        ended = self._open.pop(number)
        os.close(ended.file)
        spent = self._spent.pop(number, None)
        if spent is not None:
            self._gone[ended.parent] = self._gone.get(ended.parent, 0) + sum(spent)

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
