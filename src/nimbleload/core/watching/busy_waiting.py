"""Threads that do not sleep while they wait for work, but look again and again whether there is some.

Their time on a core says nothing of what they compute. Some code is known to wait when it is recorded (`WAITING` in
`Thread.look_owner`). Of a thread of the host itself that is known, too, where it waits: that code in which it is met
almost always while there is nothing to compute.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .records import GIVES_WAY, HOST, SLEEPS, TAKES, WAITING, Recording, Runs, Thread, Times, Turns
from .rhythm import Rhythm, in_blocks

# A block is over for so long (ns) before what is done then is waiting.
OVER = 50_000
# From so many looks on it is told where a thread waits: so large a part of them, plugins apart, in so few bytes of
# code; and plugins at most in such a part of all.
SOME, NEARLY_ALL, LOOP, SELDOM = 20, 0.9, 256, 0.5
# One that never sleeps has had its core taken away if it has none for so long (ns): to give way takes less.
AWAY = 1_000_000
# A thread belongs to the engine if it takes a turn in so many of the blocks. It is never asleep if it does not, and has
# a core for so much of the time.
IN_BLOCKS, AWAKE = 0.2, 0.25


class Open(NamedTuple):
    """From when to when blocks had something to compute, as the thread that begins them tells (ns, in order)."""

    begin: Times
    end: Times

    def over(self, times: Times) -> Times:
        """When the block was over that had begun last before each time; the time itself before the first."""
        if not len(self.begin):
            return times
        place = np.searchsorted(self.begin, times, "right") - 1
        return np.where(place >= 0, self.end[np.maximum(place, 0)], times)


def _open_blocks(found: Rhythm, leader: Turns) -> Open:
    """From each start to the end of the leader's last turn before the next."""
    begin = found.start[found.start > 0]
    end = begin.copy()
    place = np.searchsorted(begin, leader.begin, "right") - 1
    np.maximum.at(end, place[place >= 0], leader.end[place >= 0])
    return Open(begin, end)


class Worked(NamedTuple):
    """A recording with the looks marked that met a thread while it waits, its stretches and turns without that, and the
    places of those that are `awake` all the time; and when `blocks` had something to compute."""

    recording: Recording
    stretches: list[Runs]
    turns: list[Turns]
    awake: tuple[int, ...]
    blocks: Open


def without_waiting(recording: Recording, found: Rhythm, stretches: list[Runs], turns: list[Turns]) -> Worked:
    """What threads did but for busy waiting, in a cycle that was found."""
    blocks = _open_blocks(found, turns[found.leader])
    recording = _with_waiting(recording, found, blocks)
    awake = tuple(k for k in range(len(turns)) if _never_asleep(recording, k, turns[k], found))
    stretches = [
        without_sleep(recording, recording.threads[k]) if k in awake else each for k, each in enumerate(stretches)
    ]
    turns = [
        _seen_working(thread) if k in awake else _done_before(each, thread, blocks) if k != found.leader else each
        for k, (each, thread) in enumerate(zip(turns, recording.threads, strict=True))
    ]
    return Worked(recording, stretches, turns, awake, blocks)


def _with_waiting(recording: Recording, found: Rhythm, blocks: Open) -> Recording:
    """The same with the looks marked that met a thread while it waits; where blocks leave no time for it, none are."""
    if not len(blocks.begin):
        return recording
    process = recording.threads[found.leader].process
    # What goes on in another process when this one sleeps may be work: clients of a server compute in turn.
    threads = tuple(_marked(each, blocks) if each.process == process else each for each in recording.threads)
    return recording._replace(threads=threads)


def _marked(thread: Thread, blocks: Open) -> Thread:
    own = thread.look_owner <= HOST
    nothing = thread.look_time > blocks.over(thread.look_time) + OVER
    if len(thread.look_place) != len(own) or own.all() or not _mostly(own, nothing, 1 - SELDOM):
        return thread
    begin = _where(thread.look_place[nothing & own])
    waits = own & (thread.look_place >= begin) & (thread.look_place < begin + LOOP)
    waits |= thread.look_owner == WAITING
    if not _mostly(waits, nothing & own, NEARLY_ALL):
        return thread
    return thread._replace(look_owner=np.where(waits, WAITING, thread.look_owner))


def _mostly(what: NDArray[np.bool_], of: NDArray[np.bool_], part: float) -> bool:
    """Whether so large a part of some looks are such, if there are some at all."""
    return bool((what & of).sum() >= max(part * of.sum(), SOME))


def _where(places: Times) -> int:
    """Where those few bytes of code begin in which most of these places lie."""
    places = np.sort(places)
    if not len(places):
        return 0
    return int(places[int(np.argmax(np.searchsorted(places, places + LOOP) - np.arange(len(places))))])


def _never_asleep(recording: Recording, place: int, turns: Turns, found: Rhythm) -> bool:
    """Whether a thread waits without going to sleep, and computes what the engine does, or waits for it."""
    thread = recording.threads[place]
    waits = int((thread.look_owner == WAITING).sum())
    if waits < SOME or in_blocks(turns, found.tick) >= IN_BLOCKS:
        return False
    awake = float(thread.look_weight.sum()) >= AWAKE * (recording.ended - recording.begun)
    return awake and (bool((thread.look_owner > HOST).any()) or 2 * waits > len(thread.look_owner))


def without_sleep(recording: Recording, thread: Thread) -> Runs:
    """When a thread that never sleeps had a core: what had begun before the records, or had not ended with them, as
    well."""
    kind, time, core = thread.switch_kind, thread.switch_time, thread.switch_core
    first, last = (int(kind[0]), int(kind[-1])) if len(kind) else (SLEEPS, TAKES)
    here = int(core[0]) if len(core) else 0
    begins = kind == TAKES
    begin, of = time[begins], core[begins]
    if first != TAKES:
        begin, of = np.append(recording.begun, begin), np.append(here, of)
    end, gave_way = time[~begins], kind[~begins] == GIVES_WAY
    if last == TAKES:
        end, gave_way = np.append(end, recording.ended), np.append(gave_way, False)
    fits = min(len(begin), len(end))
    nothing = np.zeros(fits, np.bool_)
    return Runs(begin[:fits], end[:fits], of[:fits], gave_way[:fits], nothing, nothing)


def _seen_working(thread: Thread) -> Turns:
    """Where a thread that never sleeps was met in a plugin, as turns without any length."""
    time = thread.look_time[thread.look_owner > HOST]
    nothing = np.zeros(len(time), np.int64)
    return Turns(time, time, nothing, nothing, nothing)


def taken_away(found: Runs) -> tuple[Times, Times]:
    """From when to when (ns) a thread that never sleeps had no core, though it had not just let others have a turn."""
    gone = found.gave_way[:-1] & (found.begin[1:] - found.end[:-1] > AWAY)
    return found.end[:-1][gone], found.begin[1:][gone]


def _done_before(turns: Turns, thread: Thread, blocks: Open) -> Turns:
    """The turns of a thread that waits for more before it goes to sleep, without that: they end with the block, or
    where it was met at work last."""
    over = blocks.over(turns.begin)
    inside = (thread.look_time > blocks.over(thread.look_time) + OVER) & _within(turns, thread.look_time)
    if not _mostly(thread.look_owner == WAITING, inside & (thread.look_owner <= HOST), NEARLY_ALL):
        return turns
    works = thread.look_time[thread.look_owner > HOST]
    last = np.append(works, 0)[np.searchsorted(works, turns.end) - 1]
    end = np.maximum(over, np.where(last >= turns.begin, last, 0))
    return turns._replace(end=np.where(turns.end > over + OVER, end, turns.end))


def _within(turns: Turns, times: Times) -> NDArray[np.bool_]:
    """Which times lie in a turn."""
    place = np.searchsorted(turns.begin, times, "right") - 1
    return np.asarray((place >= 0) & (times <= np.append(turns.end, 0)[place]), np.bool_)
