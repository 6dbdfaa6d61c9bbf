"""Records of a running host: when its threads took and left a core, and where in the code they were now and then.

All times are nanoseconds on one clock that never jumps (int64).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from types import MappingProxyType
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .held_memory import Held
from .server import Server

Times = NDArray[np.int64]
NONE: Times = np.zeros(0, np.int64)
# What a switch says of a thread: it takes a core, it sleeps of its own accord, it gives way to another one.
TAKES, SLEEPS, GIVES_WAY = 0, 1, 2
# That a page was read is told so soon after the thread has a core again, at most (ns); after so long it may as well
# have slept for something else, and read a page then without having to sleep.
TOLD_WITHIN, SURE_WITHIN = 50_000, 8_000
SLEEPS_SEEN = ("sleep_time", "sleep_owner", "sleep_why")
READINGS = ("ready_time", "ready_sum", "ready_ran")
# Reading what the system counts of a thread takes less (ns), or it is not known when that was.
READ_WITHIN = 50_000
# What a thread sleeps for that was looked at: nobody knows, until a time, for another thread or a lock, for what it
# reads or writes, for a program or device, until a page has been read.
SOMETHING, A_TIME, A_LOCK, A_FILE, A_DEVICE, A_PAGE = range(6)
# Going to sleep takes less (ns).
SLEEPS_WITHIN = 20_000
# To whom code belongs that is not a plugin's (those count from 1): the host's own file, a library whose caller is not
# known, nobody who is known. KERNEL is the system's time, in no look; WAITING is code of the host, or of libraries for
# it, that only looks again and again whether there is work.
HOST, LIBRARY, NOBODY, KERNEL, WAITING = 0, -1, -2, -3, -4


# Between a file that holds several plugins and the identifier of one of them.
OF_FILE = "::"
# In the place of an identifier: all plugins of the file are told apart.
ALL = ""


def inside(file: str, identifier: str) -> str:
    """What a plugin of a file that holds several is called among files."""
    return f"{file}{OF_FILE}{identifier}"


@lru_cache(16)
def wholes(files: tuple[str, ...]) -> Mapping[int, int]:
    """Of each owner that is one plugin of several in a file, the owner that stands for the file."""
    numbers = {file: number for number, file in enumerate(files, 1)}
    split = {number: file.partition(OF_FILE) for file, number in numbers.items()}
    return {number: numbers[of] for number, (of, _, own) in split.items() if own and of in numbers}


def with_the_only_one(of: Recording) -> Recording:
    """The same, but that in a thread in which one plugin alone was met of a file, all of whose plugins are told apart,
    what they share is that one's."""
    whole = {part: file for part, file in wholes(of.files).items() if inside(of.files[file - 1], ALL) in of.files}
    if not whole:
        return of
    threads = []
    for thread in of.threads:
        met, owner = set(np.unique(thread.look_owner).tolist()), thread.look_owner
        for file in set(whole.values()) & met:
            own = [part for part in met if whole.get(part) == file]
            if len(own) == 1:
                owner = np.where(owner == file, own[0], owner)
        threads.append(thread._replace(look_owner=owner))
    return of._replace(threads=tuple(threads))


def short(file: str) -> str:
    """A plugin's file without folders and ending; of one plugin of several in it, the end of its identifier."""
    name, _, identifier = file.partition(OF_FILE)
    of_file = name.rstrip("/").rpartition("/")[2]
    return identifier.rpartition("/")[2] or of_file.rpartition(".")[0] or of_file


class Thread(NamedTuple):
    """The records of one thread: N switches (time, kind, core), M looks (time, whose code, after how much CPU time; at
    which address, none where that was not kept) and F touches of memory that was not there (time; how many pages that
    were new, or 0 for one that was read from the disk; whose code).

    `waited` is how long it was ready to run and got no core, `ran` how long it had one (seconds), as the system counts
    them; −1 where that is not known. P looks met it asleep (time, whose code had called the system, and for
    what it slept). How long it had been ready without a core at some time was read R times (`ready_time`, `ready_sum`:
    ns, all together), and how long it had run (`ready_ran`, ns; none where that was not kept).
    """

    process: int
    number: int
    name: str
    is_real_time: bool
    switch_time: Times
    switch_kind: Times
    switch_core: Times
    look_time: Times
    look_owner: Times
    look_weight: Times
    waited: float = -1.0
    fault_time: Times = NONE
    fault_pages: Times = NONE
    fault_owner: Times = NONE
    look_place: Times = NONE
    ran: float = -1.0
    sleep_time: Times = NONE
    sleep_owner: Times = NONE
    sleep_why: Times = NONE
    ready_time: Times = NONE
    ready_sum: Times = NONE
    ready_ran: Times = NONE


class Event(NamedTuple):
    """Something that happened while watching: when (ns), and what, in words."""

    time: int
    words: str


class Heard(NamedTuple):
    """What a sound server told meanwhile: how it runs at last, its X xruns (when told, ns; how late, seconds), and its
    own figure of its load (L times, ns; shares of the deadline)."""

    server: Server
    xrun_time: Times
    xrun_late: NDArray[np.float64]
    load_time: Times
    load: NDArray[np.float64]

    @classmethod
    def of(cls, server: Server, xruns: Iterable[tuple[int, float]], loads: Iterable[tuple[int, float]]) -> Heard:
        """From pairs of a time (ns) and a figure, in any order."""
        late, load = sorted(xruns), sorted(loads)
        return cls(
            server, np.array([time for time, _ in late], np.int64), np.array([by for _, by in late], np.float64),
            np.array([time for time, _ in load], np.int64), np.array([part for _, part in load], np.float64),
        )  # fmt: skip

    def since(self, time: int) -> Heard:
        """Only what was told from a time (ns) on."""
        xrun, load = self.xrun_time >= time, self.load_time >= time
        return self._replace(
            xrun_time=self.xrun_time[xrun], xrun_late=self.xrun_late[xrun], load_time=self.load_time[load],
            load=self.load[load],
        )  # fmt: skip


class Alike(NamedTuple):
    """Which of a computer's cores are not like others: those that are threads of one (`same`), and `slow` ones."""

    same: tuple[tuple[int, ...], ...] = ()
    slow: tuple[int, ...] = ()


class Clocks(NamedTuple):
    """At which clock C cores (by number) ran, at S looks, about one a second (`time`, ns): `clock` (S, C; Hz, 0: not
    told) is that of the time just before. `hot` is how often each had been slowed down for heat (S, C) since the
    computer was started, `most` how fast each may run (C; Hz, 0: not told)."""

    core: Times
    most: Times
    time: Times
    clock: Times
    hot: Times

    @classmethod
    def of(
        cls, core: Sequence[int], most: Sequence[int], looks: Sequence[tuple[int, Sequence[int], Sequence[int]]]
    ) -> Clocks:
        """From looks: when each was, and what it told of each core."""
        shape = len(looks), len(core)
        time, clock, hot = ([look[part] for look in looks] for part in range(3))
        return cls(
            np.array(core, np.int64), np.array(most, np.int64), np.array(time, np.int64),
            np.array(clock, np.int64).reshape(shape), np.array(hot, np.int64).reshape(shape),
        )  # fmt: skip


NOT_TOLD = Clocks.of((), (), ())


class Others(NamedTuple):
    """What else went on between a look at it and the one before: when the look was (`time`, ns), what each other
    program `took` by its name, as a share of one core, and how often a second each device `interrupted`. What a
    program `started` that had ended before it was looked at took so much, all together."""

    time: int
    took: dict[str, float]
    interrupted: dict[str, float]
    started: Mapping[str, float] = MappingProxyType({})


class Recording(NamedTuple):
    """What was seen of a host from `begun` to `ended`. `files` names the plugin files by owner, from 1 on.

    `programs` are the names of its processes by number, `lost` counts records that there was no room for, `price` is
    what one look costs (seconds). `heard` is what the sound server told, if one was listened to. `alike` is which of
    the computer's cores are. `memory` is what the host kept, about once a second since the watching began, `clocks` how
    fast the cores ran meanwhile, `others` what other programs did.
    """

    begun: int
    ended: int
    threads: tuple[Thread, ...]
    files: tuple[str, ...]
    programs: dict[int, str]
    lost: int = 0
    price: float = 0.0
    heard: Heard | None = None
    alike: Alike = Alike()
    memory: tuple[Held, ...] = ()
    clocks: Clocks = NOT_TOLD
    others: tuple[Others, ...] = ()

    @property
    def seconds(self) -> float:
        return (self.ended - self.begun) / 1e9

    def last(self, seconds: float) -> Recording:
        """Only the last so many seconds."""
        return self.since(max(self.begun, self.ended - round(seconds * 1e9)))

    def since(self, since: int) -> Recording:
        """Only what came from a time (ns) on."""
        heard = self.heard.since(since) if self.heard is not None else None
        threads = tuple(_since(thread, since) for thread in self.threads)
        if since > self.begun:
            # For how much of it a thread ran since then is not known.
            threads = tuple(thread._replace(ran=-1.0) for thread in threads)
        return self._replace(begun=since, threads=threads, heard=heard)


def _since(thread: Thread, time: int) -> Thread:
    switch, look = np.searchsorted(thread.switch_time, time), np.searchsorted(thread.look_time, time)
    fault = np.searchsorted(thread.fault_time, time)
    # What had been read last before tells what was counted until then.
    ready = max(int(np.searchsorted(thread.ready_time, time, "right")) - 1, 0)
    return thread._replace(
        switch_time=thread.switch_time[switch:], switch_kind=thread.switch_kind[switch:],
        switch_core=thread.switch_core[switch:], look_time=thread.look_time[look:],
        look_owner=thread.look_owner[look:], look_weight=thread.look_weight[look:],
        fault_time=thread.fault_time[fault:], fault_pages=thread.fault_pages[fault:],
        fault_owner=thread.fault_owner[fault:], look_place=thread.look_place[look:],
        **{name: getattr(thread, name)[np.searchsorted(thread.sleep_time, time) :] for name in SLEEPS_SEEN},
        **{name: getattr(thread, name)[ready:] for name in READINGS},
    )  # fmt: skip


class Runs(NamedTuple):
    """Stretches in which a thread had a core (R each); `gave_way` says that one ended for another thread's sake, `read`
    that it ended until memory was read from the disk, which `may_be` is not `read` for sure."""

    begin: Times
    end: Times
    core: Times
    gave_way: NDArray[np.bool_]
    read: NDArray[np.bool_]
    may_be: NDArray[np.bool_]


class Turns(NamedTuple):
    """What a thread does between waking up and going to sleep again (T each).

    `busy` is how long it had a core meanwhile (ns), `pushed` how often it had to give way, `read` how long it waited
    for memory from the disk (ns).
    """

    begin: Times
    end: Times
    busy: Times
    pushed: Times
    read: Times


def runs(thread: Thread) -> Runs:
    """When the thread had a core; what began before the records, or had not ended with them, is left out."""
    kind = thread.switch_kind
    at = np.flatnonzero((kind[:-1] == TAKES) & (kind[1:] != TAKES))
    begin, end, gave_way = thread.switch_time[at], thread.switch_time[at + 1], kind[at + 1] == GIVES_WAY
    read = np.full(len(at), TOLD_WITHIN)
    told = thread.fault_time[thread.fault_pages == 0]
    if len(told) and len(at):
        place = np.searchsorted(begin, told, "right") - 1
        after = place > 0
        np.minimum.at(read, place[after] - 1, told[after] - begin[place[after]])
    is_read = (read < TOLD_WITHIN) & ~gave_way
    return Runs(begin, end, thread.switch_core[at], gave_way, is_read, is_read & (read > SURE_WITHIN))


def turns(found: Runs) -> Turns:
    """The stretches joined where the thread only gave way in between, or waited for memory."""
    if not len(found.begin):
        return Turns(NONE, NONE, NONE, NONE, NONE)
    first, last = _first_and_last(found)
    busy = np.add.reduceat(found.end - found.begin, first)
    pushed = np.add.reduceat(found.gave_way.astype(np.int64), first)
    waited = np.append(found.begin[1:] - found.end[:-1], 0) * found.read
    return Turns(found.begin[first], found.end[last], busy, pushed, np.add.reduceat(waited, first))


def through(found: Runs) -> Times:
    """When each turn had done its work (T): where a thread gave way and only went to sleep after, before that. Whoever
    was woken by it may have taken its core at once."""
    _, last = _first_and_last(found)
    return np.where(only_slept(found), found.end[np.maximum(last - 1, 0)], found.end[last])


def only_slept(found: Runs) -> NDArray[np.bool_]:
    """Which turns gave way at last with nothing left to do but to go to sleep (T)."""
    first, last = _first_and_last(found)
    before = np.maximum(last - 1, 0)
    is_short = found.end[last] - found.begin[last] < SLEEPS_WITHIN
    return np.asarray((last > first) & found.gave_way[before] & is_short, np.bool_)


def _first_and_last(found: Runs) -> tuple[Times, Times]:
    """The places of each turn's first and last stretch."""
    if not len(found.begin):
        return NONE, NONE
    goes_on = found.gave_way | found.read
    first = np.flatnonzero(np.concatenate(([True], ~goes_on[:-1])))
    return first, np.append(first[1:] - 1, len(found.begin) - 1)
