"""Watches a running host: keeps the records of all its threads, and those of its child processes, for a while.

Nothing in the host is changed; when the watching ends, the kernel forgets it.
"""

from __future__ import annotations

import errno
import math
import random
import resource
import select
import time
from collections import deque
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ..core.watching.held_memory import Held
from ..core.watching.records import HOST, NOBODY, READINGS, SLEEPS_SEEN, WAITING, Alike, Event, Recording, Thread
from ..native.cores import ROOT, cores, present
from . import held_memory, perf, processes
from .asleep import Sleepers
from .core_clocks import CoreClocks
from .listening import Listening
from .maps import NO_PARTS, Maps, Parts
from .others import OtherPrograms
from .processes import PROC
from .ready import Ready
from .sound_servers import Running

# Looks at each thread after so much of its CPU time (ns): for as long as one likes, and for ten seconds.
STEADY, CLOSE = 1_000_000, 100_000
# What looking may take of a thread's time.
DEAREST = 0.02
# So often (seconds): new threads are looked for; child processes; what is known of all threads is read anew; the code
# of a process, at most; a few records are taken in; it is read what all processes keep in memory, so often at most, at
# which clock cores run and what other programs compute.
THREADS_EVERY, CHILDREN_EVERY, ALL_EVERY, MAPS_EVERY, TAKEN_EVERY = 0.5, 2.0, 10.0, 2.0, 10.0
MEMORY_EVERY, MOST_HELD = 1.0, 3600
ROOM = (64, 16, 4, 1)
# Each thread takes three open files; by default a program may have 1024.
MOST_FILES = 65536


def get_ready() -> None:
    """Has loaded what is compiled for watching, which takes half a second, once."""
    none, owners = np.zeros(0, np.uint64), np.zeros(0, np.int64)
    perf.read(none, none, none, owners)
    perf.whose([], [], perf.Code(none, none, owners, owners))


def have_many_files() -> None:
    """Lets this program have as many files open as its user may, within reason."""
    allowed, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = MOST_FILES if most == resource.RLIM_INFINITY else min(MOST_FILES, most)
    if allowed != resource.RLIM_INFINITY and allowed < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, most))


class _Kept:
    """The records of one thread, and those read so far, in the order in which they came."""

    def __init__(self, thread: processes.Thread, records: perf.Records) -> None:
        self.thread, self.records = thread, records
        self.parts: deque[tuple[perf.Read, int]] = deque()
        self.asleep: deque[tuple[int, int, int]] = deque()
        self.has_plugins = False
        self.lost = 0
        self.counts = deque([(time.monotonic_ns(), thread.waited, thread.cpu)])
        self.ended = False
        self.is_new = True

    def counted_since(self, begun: int) -> tuple[float, float]:
        """How long it has waited for a core since then, and how long it has run on one (seconds)."""
        times, waited, ran = zip(*self.counts, strict=True)
        return tuple(float(each[-1] - np.interp(begun, times, each)) for each in (waited, ran))  # type: ignore[return-value]


def alike(root: Path = ROOT) -> Alike:
    """Which of this computer's cores are not like others, whoever may use them."""
    here = cores(root, present(root))
    same = sorted({threads for threads in here.same.values() if len(threads) > 1})
    return Alike(tuple(same), tuple(sorted(each for core in here.slow for each in here.same[core])))


class Watcher:
    """Watches processes and all below them: one host, or a server with its clients. `seconds` is how long records are
    kept. Where a server is listened to, its clients are watched from when they come on. `parts` says where the plugins
    of files that hold several lie in these, so that they are told apart; `root` is where processes are told of,
    `computer` the folder below which the kernel tells of the cores.

    NotAllowedError if the kernel refuses; ProcessLookupError if there is no such process.
    """

    def __init__(
        self, watched: Sequence[int], close: bool = False, seconds: float = 60.0, root: Path = PROC,
        listening: Listening | None = None, parts: Parts = NO_PARTS, computer: Path = ROOT,
    ) -> None:  # fmt: skip
        self.listening, self._parts = listening, parts
        for process in watched:
            if not processes.threads(process, root):
                raise ProcessLookupError(errno.ESRCH, f"there is no process {process}, or it is another user's")
        self.watched, self._root, self._seconds = tuple(watched), root, seconds
        have_many_files()
        self.price = perf.price()
        self.period = max(CLOSE if close else STEADY, round(self.price / DEAREST * 1e9))
        self._events: list[Event] = []
        self.unseen = 0
        self._files: list[str] = []
        self._maps: dict[int, Maps] = {}
        self._programs: dict[int, str] = {}
        self._kept: dict[int, _Kept] = {}
        self._by_file: dict[int, _Kept] = {}
        self._chance = random.Random(1)
        self._full = select.poll()
        self._below: list[int] = []
        self._bridges: list[int] = []
        self._alike, self._clocks = alike(computer), CoreClocks(computer)
        self._next_threads = self._next_children = self._next_all = self._next_maps = self._next_take = 0.0
        self._next_memory = 0.0
        self._held: deque[Held] = deque(maxlen=MOST_HELD)
        self._sleepers, self._ready, self._others = Sleepers(root), Ready(seconds, root), OtherPrograms(root)
        self.begun = time.monotonic_ns()
        self._follow()
        self.begun = time.monotonic_ns()

    @classmethod
    def of_server(
        cls, running: Running, close: bool = False, seconds: float = 60.0, parts: Parts = NO_PARTS
    ) -> Watcher:  # fmt: skip
        """Watches a sound server with its clients, and listens to it. ListeningError if it does not let itself be
        listened to, beside what else there may be."""
        listening = Listening(running)
        try:
            return cls(listening.server.processes, close, seconds, listening=listening, parts=parts)
        except BaseException:
            listening.close()
            raise

    def tell_apart(self, parts: Parts) -> None:
        """Tells the plugins of files that hold several apart by these from now on."""
        self._parts = parts
        for maps in self._maps.values():
            maps.tell_apart(parts)

    @property
    def is_over(self) -> bool:
        """Whether all threads that were watched have ended."""
        return all(kept.ended for kept in self._kept.values())

    @property
    def events(self) -> list[Event]:
        """What has happened so far, in order."""
        told = self.listening.events if self.listening is not None else []
        return sorted([*self._events, *told])

    def poll(self) -> None:
        """Takes in what has happened since the last time. At least five times a second, so that there is room."""
        now = time.monotonic()
        if now >= self._next_threads:
            self._follow()
            self._next_threads = now + THREADS_EVERY
        if now >= self._next_memory:
            self._next_memory = now + MEMORY_EVERY
            self._held.extend(held_memory.held(self._below, self._root))
            self._clocks.look()
            self._others.look(self._below)
        for file, _ in self._full.poll(0):
            self._take(self._by_file[file])
        self._look_asleep()
        self._ready.look()
        if now >= self._next_take:
            self._next_take = now + TAKEN_EVERY
            forgotten = time.monotonic_ns() - round(self._seconds * 1e9)
            for kept in self._kept.values():
                self._take(kept)
                while kept.parts and _ends(kept.parts[0][0]) < forgotten:
                    kept.parts.popleft()
                while kept.asleep and kept.asleep[0][0] < forgotten:
                    kept.asleep.popleft()

    def _take(self, kept: _Kept) -> None:
        """Reads what waits, if any; where code is met that nobody knows, the process has loaded something meanwhile."""
        if kept.ended or not kept.records.waiting:
            return
        now = time.monotonic()
        words, period = kept.records.taken(), kept.records.period
        maps = self._maps[kept.thread.process]
        found = perf.read(words, maps.begin, maps.end, maps.owner, maps.whole, kept.records.faults)
        if (found.sample_owner == NOBODY).any() and now >= self._next_maps:
            self._next_maps = now + MAPS_EVERY
            if maps.look_again():
                found = perf.read(words, maps.begin, maps.end, maps.owner, maps.whole, kept.records.faults)
        kept.lost += found.lost
        _mark_waiting(found, maps)
        kept.has_plugins |= bool((found.sample_owner > HOST).any())
        kept.parts.append((found, period))
        if len(found.sample_time):
            # Looks in equal steps of CPU time would meet work of equal length always at the same places.
            kept.records.look_every(round(self.period * self._chance.uniform(0.75, 1.25)))

    def _look_asleep(self) -> None:
        """Looks who sleeps, and for whom."""
        found = self._sleepers.looks()
        for process in {each.process for each in found} & self._maps.keys():
            maps, own = self._maps[process], [each for each in found if each.process == process]
            code = perf.Code(maps.begin, maps.end, maps.owner, maps.whole)
            owners = perf.whose([each.address for each in own], [each.stack for each in own], code)
            for each, owner in zip(own, owners, strict=True):
                self._kept[each.thread].asleep.append((each.time, owner, each.why))

    def _follow(self) -> None:
        """Finds threads and processes that are new, and those that have ended."""
        now = time.monotonic()
        if self.listening is not None:
            joined = (number for number in self.listening.server.processes if number not in self.watched)
            self.watched += tuple(number for number in joined if processes.threads(number, self._root))
        everything = now >= self._next_all
        if everything:
            self._next_all = now + ALL_EVERY
            self._bridges = processes.bridges(self.watched, self._root)
        if everything or now >= self._next_children or set(self.watched) - set(self._below):
            self._others.follow()
            self._below = self._others.below((*self.watched, *self._bridges))
            self._next_children = now + CHILDREN_EVERY
        there: set[int] = set()
        for process in self._below:
            numbers = processes.thread_numbers(process, self._root)
            there.update(numbers)
            if numbers and process not in self._maps:
                self._begin(process)
            for number in numbers:
                if everything or number not in self._kept or self._kept[number].is_new:
                    self._look_at(process, number)
        for number in self._kept.keys() - there:
            if not self._kept[number].ended:
                self._end(self._kept[number])
        alive = [each for each in self._kept.values() if not each.ended]
        first = [each for each in alive if each.thread.is_real_time] or [each for each in alive if each.has_plugins]
        for looks in (self._sleepers, self._ready):
            looks.follow([(each.thread.process, each.thread.number) for each in first])
        for process in self.watched:
            if process in self._maps and not processes.thread_numbers(process, self._root):
                self._events.append(Event(time.monotonic_ns(), f"{self._programs[process]} has ended"))
                del self._maps[process]

    def _begin(self, process: int) -> None:
        """Reads what a process is and where its code lies."""
        self._maps[process] = Maps(process, self._files, self._root, self._parts)
        self._programs[process] = processes.program(process, self._root)
        if process not in self.watched:
            what = "which shares memory with it," if process in self._bridges else "its child,"
            words = f"the process {process} ({self._programs[process]}), {what} is watched, too"
            self._events.append(Event(time.monotonic_ns(), words))

    def _look_at(self, process: int, number: int) -> None:
        """Reads what a thread is. One that was new the last time may have been given its name and its rank since."""
        thread = processes.thread(process, number, self._root)
        if thread is None:
            return
        if number in self._kept:
            self._kept[number].thread, self._kept[number].is_new = thread, False
        else:
            self._attach(thread)

    def _attach(self, thread: processes.Thread) -> None:
        """Begins to keep the records of a thread, with as much room as the system gives."""
        for pages in ROOM if thread.is_real_time else ROOM[1:]:
            try:
                kept = _Kept(thread, perf.Records(thread.number, self.period, pages))
            except ProcessLookupError:
                return
            except OSError as error:
                if error.errno not in (errno.EPERM, errno.ENOMEM, errno.EMFILE):
                    raise
                continue
            self._kept[thread.number] = self._by_file[kept.records.fileno()] = kept
            self._full.register(kept.records, select.POLLIN)
            return
        self.unseen += 1

    def _end(self, kept: _Kept) -> None:
        """Takes in the last of a thread's records, and lets the kernel forget them."""
        self._take(kept)
        del self._by_file[kept.records.fileno()]
        self._full.unregister(kept.records)
        kept.records.close()
        kept.ended = True

    def recording(self, seconds: float = math.inf) -> Recording:
        """All that is kept, to this moment, or only the last so many seconds of it. Nothing is left out without being
        counted."""
        whole = math.isinf(seconds)
        for kept in self._kept.values():
            # What is only shown can do without the last second of threads that hardly ever run.
            if whole or kept.thread.is_real_time:
                self._take(kept)
                self._refresh(kept)
        threads = []
        ended = time.monotonic_ns()
        begun = max(self.begun, ended - round(min(seconds, self._seconds) * 1e9), self._same_since())
        begun = min(begun, ended)
        for kept in self._kept.values():
            parts = [each for each in kept.parts if _ends(each[0]) >= begun]
            reads, thread = [part for part, _ in parts], kept.thread
            weights = [np.full(len(part.sample_time), period, np.int64) for part, period in parts]
            waited, ran = kept.counted_since(begun)
            ready = self._ready.found(thread.number, begun)
            slept = np.array([each for each in kept.asleep if each[0] >= begun], np.int64).reshape(-1, 3).T
            threads.append(
                Thread(
                    thread.process, thread.number, thread.name, thread.is_real_time,
                    _joined([part.switch_time for part in reads]), _joined([part.switch_kind for part in reads]),
                    _joined([part.switch_cpu for part in reads]), _joined([part.sample_time for part in reads]),
                    _joined([part.sample_owner for part in reads]), _joined(weights), waited,
                    _joined([part.fault_time for part in reads]), _joined([part.fault_pages for part in reads]),
                    _joined([part.fault_owner for part in reads]), _joined([part.sample_place for part in reads]),
                    ran if kept.parts and begun >= self.begun else -1.0, **dict(zip(SLEEPS_SEEN, slept, strict=True)),
                    **dict(zip(READINGS, ready, strict=True)),
                )
            )  # fmt: skip
        lost = sum(kept.lost for kept in self._kept.values())
        heard = self.listening.heard() if self.listening is not None else None
        files, programs, held = tuple(self._files), dict(self._programs), tuple(self._held)
        seen = begun, ended, tuple(threads), files, programs, lost
        beside = self._clocks.found, tuple(self._others.found)
        made = Recording(*seen, self.price, heard, self._alike, held, *beside)
        return made.last(made.seconds)

    def _refresh(self, kept: _Kept) -> None:
        """Reads anew how long a thread has waited."""
        thread = None if kept.ended else processes.thread(kept.thread.process, kept.thread.number, self._root)
        kept.thread = thread or kept.thread
        kept.counts.append((time.monotonic_ns(), kept.thread.waited, kept.thread.cpu))
        while kept.counts[0][0] < kept.counts[-1][0] - round(self._seconds * 1e9):
            kept.counts.popleft()

    def _same_since(self) -> int:
        """Since when (ns) blocks have the length that they have now: what was before is another host's."""
        return self.listening.since if self.listening is not None else 0

    def close(self) -> None:
        """Ends the watching without a trace."""
        if self.listening is not None:
            self.listening.close()
        for looks in (self._sleepers, self._ready, self._others, self._clocks):
            looks.close()
        for kept in self._kept.values():
            if not kept.ended:
                self._end(kept)


def _mark_waiting(found: perf.Read, maps: Maps) -> None:
    """Marks the looks that met code of the host, or of libraries for it, that does nothing but wait."""
    at = np.flatnonzero(found.sample_owner <= HOST)
    waits = maps.only_waits(found.sample_address[at]) | maps.only_waits(found.sample_place[at])
    found.sample_owner[at[waits]] = WAITING


def _ends(part: perf.Read) -> int:
    """When the last of these records was made (ns)."""
    return max(int(times[-1]) if len(times) else 0 for times in (part.switch_time, part.sample_time))


def _joined(parts: list[np.ndarray]) -> np.ndarray:
    return np.concatenate(parts) if parts else np.zeros(0, np.int64)
