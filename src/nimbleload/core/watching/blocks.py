"""The blocks of a running host: how full each was, which were late, and what ran in them."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .busy_waiting import IN_BLOCKS, Open, taken_away, without_waiting
from .change import changed
from .records import HOST, Recording, Runs, Times, Turns, only_slept, runs, through, turns, with_the_only_one
from .rhythm import LATE_BY, Beat, Rhythm, beat, begun_anew, in_blocks, rhythm

Role = Literal["engine", "ahead", "window", "disk", "other"]
# A block began late if it began so much of a period after it was due.
BEGAN = 0.1
# A host that begins nothing for so long (ns) stands still, or has stopped: no dropout.
STILL = 500_000_000
# A thread that keeps so even a time of whole cycles computes ahead, in longer blocks.
AHEAD_EVEN, AHEAD_EXACT = 0.8, 0.02
# What wakes so close to when a block is due (a share of it; ns) was woken by the device, whatever it reads then.
DUE, DUE_NS = 0.02, 60_000
# The engine waits for a thread if it goes on so soon (ns; a part of the period) after so many more of that thread's
# turns than by chance, and there are some.
GOES_ON, GOES_ON_IN, FOLLOWED, SOME = 150_000, 0.1, 0.35, 20
# So much before a change of the cycle belongs to what is after it (ns): it was woken for that.
CHANGED = 50_000
# It computes blocks if so many of its turns begin in them, beyond chance.
IN_STEP = 0.5
# One that computes so many cycles ahead takes its turn in one of so many blocks, or hardly more.
TOO_OFTEN = 1.5
# A thread computes plugins if it does so much of what the one does that does most.
COMPUTES = 0.25
DISK_WORDS = ("disk", "stream", "cache", "reader", "file", "loader", "io-")


class Blocks(NamedTuple):
    """B blocks of `period` seconds: `start` and `end` (ns), `load` (from start to end over the period), `late`.

    `late` counts blocks that were not through when they were due, this one and those after it that had no start of
    their own: a thread that is late computes them in one go. `tick` is when each was due to begin, `pushed` how often
    the engine's threads had to give way, `read` how long they waited for memory from the disk (ns, all together).
    """

    period: float
    tick: NDArray[np.float64]
    start: Times
    end: Times
    load: NDArray[np.float64]
    late: Times
    pushed: Times
    read: Times

    @property
    def typical(self) -> float:
        return float(np.median(self.load)) if len(self.load) else 0.0

    @property
    def bad(self) -> float:
        """What one block in a hundred reaches."""
        return float(np.percentile(self.load, 99, method="higher")) if len(self.load) else 0.0

    @property
    def worst(self) -> float:
        return float(self.load.max()) if len(self.load) else 0.0

    @property
    def dropouts(self) -> int:
        return int(self.late.sum())

    @property
    def covered(self) -> NDArray[np.int64]:
        """How many blocks each stands for: itself, and those after it that had no start of their own (B); a host that
        stands still after one has none to begin."""
        pauses = np.append(np.diff(self.tick), 0.0)
        steps = np.maximum(np.round(pauses / (self.period * 1e9)), 1.0)
        return np.where(pauses < STILL, steps, 1.0).astype(np.int64)

    @property
    def number(self) -> int:
        """How many blocks were computed, with those that had no start of their own."""
        return int(self.covered.sum())


class Seen(NamedTuple):
    """A recording, read: stretches and turns of its threads, what each does, and the blocks (None: no cycle found).

    "engine" are threads that compute in the device's blocks, "ahead" those that do it in longer ones, beforehand.
    `leader` is the place of the thread that begins blocks, −1 without a cycle. Where the cycle has changed, all is
    since then, and before that it `was` so long (seconds; else 0). `awake` are the places of the engine's threads that
    never sleep: when they compute is known from looks alone.
    """

    recording: Recording
    runs: list[Runs]
    turns: list[Turns]
    roles: tuple[Role, ...]
    leader: int
    blocks: Blocks | None
    was: float = 0.0
    awake: tuple[int, ...] = ()

    @property
    def engine(self) -> list[int]:
        """The places of the engine's threads."""
        return [k for k, role in enumerate(self.roles) if role == "engine"]


def see(recording: Recording) -> Seen:
    """Reads a recording."""
    recording = with_the_only_one(recording)
    stretches = [runs(thread) for thread in recording.threads]
    woken = [turns(found) for found in stretches]
    real_time = [thread.is_real_time for thread in recording.threads]
    may_lead = real_time if any(real_time) else [True] * len(real_time)
    # A window draws in even steps, too: where all threads have the same rank, plugins tell which ones compute.
    first = [_servers_own(recording, may_lead), [] if any(real_time) else _with_plugins(recording)]

    def cycle(of: list[Turns]) -> Rhythm | None:
        tried = (rhythm(of, each) for each in (*(each for each in first if any(each)), may_lead))
        return next((found for found in tried if found is not None), None)

    change = changed(woken, may_lead, cycle)
    if change is not None:
        return see(recording.since(change.time - CHANGED))._replace(was=change.was / 1e9)
    found = cycle(woken)
    apart = [_apart(each, found) for each in stretches] if found is not None else stretches
    if any(new is not old for new, old in zip(apart, stretches, strict=True)):
        stretches, woken = apart, [turns(each) for each in apart]
        found = cycle(woken)
    if found is None:
        roles = tuple(_other_role(recording, k) for k in range(len(woken)))
        return Seen(recording, stretches, woken, roles, -1, None)
    recording, stretches, woken, awake, open_blocks = without_waiting(recording, found, stretches, woken)
    barren = _without_plugins(recording)
    may = [real_time[k] or (k not in barren and _in_step(each, open_blocks)) for k, each in enumerate(woken)]
    roles = tuple(
        "engine" if k in awake else _role(recording, k, woken, found, real_time, may[k]) for k in range(len(woken))
    )
    while (place := _waited_for(recording, stretches, woken, roles, found, barren)) is not None:
        roles = (*roles[:place], "engine", *roles[place + 1 :])
        # Whoever waits for it may take its core as soon as it is through, and others before it has gone to sleep.
        pushed = woken[place].pushed - only_slept(stretches[place])
        woken[place] = woken[place]._replace(end=through(stretches[place]), pushed=pushed)
    mine = {k: each for k, each in enumerate(woken) if roles[k] == "engine"}
    others = [each for k, each in mine.items() if k != found.leader]
    found = found._replace(start=begun_anew(found, woken[found.leader], others))
    seen = _blocks(found, list(mine.values()))
    for begin, end in (gap for k in awake for gap in zip(*taken_away(stretches[k]), strict=True)):
        seen.pushed[(seen.start < end) & (seen.end > begin)] += 1
    return Seen(recording, stretches, woken, roles, found.leader, seen, awake=awake)


def _apart(of: Runs, found: Rhythm) -> Runs:
    """The same, but that a thread which slept until a block was due did not wait for memory, though it may have read
    some at once: from a disk that is itself in memory this takes no sleep."""
    at = np.flatnonzero(of.may_be[:-1])
    if not len(at):
        return of
    after = np.clip(np.searchsorted(found.tick, of.begin[at + 1]), 1, len(found.tick) - 1)
    off = np.minimum(np.abs(of.begin[at + 1] - found.tick[after - 1]), np.abs(of.begin[at + 1] - found.tick[after]))
    due = at[off < min(DUE * found.period, DUE_NS)]
    if not len(due):
        return of
    read = of.read.copy()
    read[due] = False
    return of._replace(read=read)


def _waited_for(
    recording: Recording, of: list[Runs], woken: list[Turns], roles: tuple[Role, ...], found: Rhythm,
    barren: frozenset[int],
) -> int | None:  # fmt: skip
    """The place of a thread outside the engine for which that waits, block after block, whatever its rank: where a
    plugin computes in a process of its own. A thread of the engine goes on as soon as it is through."""
    begin = np.sort(np.concatenate([each.begin for each, role in zip(woken, roles, strict=True) if role == "engine"]))
    soon = min(GOES_ON, GOES_ON_IN * found.period)
    process = recording.threads[found.leader].process
    by_chance = min(1.1 * soon * len(begin) / max(float(begin[-1] - begin[0]), 1.0), 1.0)
    for place, each in enumerate(woken):
        if roles[place] in ("engine", "ahead") or len(each.begin) < SOME:
            continue
        # What a window draws in even steps may end just before blocks begin for a while.
        if recording.threads[place].process == process and place in barren:
            continue
        # It may have been found, or begun, only a while ago.
        since = found.tick[max(int(np.searchsorted(found.tick, each.begin[0])) - 1, 0) :]
        if in_blocks(each, since) < IN_BLOCKS:
            continue
        end = through(of[place])
        followed = np.searchsorted(begin, end + soon) > np.searchsorted(begin, end - 0.1 * soon)
        if followed.mean() - by_chance > FOLLOWED * (1 - by_chance):
            return place
    return None


def _role(
    recording: Recording, place: int, woken: list[Turns], found: Rhythm, real_time: list[bool], may_compute: bool
) -> Role:
    """What a thread does, where a cycle was found; of the engine it is only if it `may_compute`."""
    if place == found.leader:
        return "engine"
    part = in_blocks(woken[place], found.tick)
    alike = real_time[place] == real_time[found.leader] and part >= IN_BLOCKS and may_compute
    if alike or real_time[place]:
        own = found.beats[place] if place in found.beats else beat(woken[place].begin)
        times = ahead_by(own, found.period)
        if times > 1 and part * times < TOO_OFTEN:
            return "ahead"
    return "engine" if alike else _other_role(recording, place)


def _in_step(of: Turns, blocks: Open) -> bool:
    """Whether a thread takes its turns while blocks are computed, clearly more than by chance: outside real time a
    window that draws in even steps would seem to compute blocks. Where these leave hardly any time, it may."""
    if not len(of.begin):
        return False
    inside = (of.begin <= blocks.over(of.begin)) & (of.begin >= blocks.begin[0])
    span = float(blocks.begin[-1] - blocks.begin[0])
    chance = float((blocks.end - blocks.begin)[:-1].sum()) / max(span, 1.0)
    return bool(inside.mean() - chance >= IN_STEP * (1 - chance))


def _without_plugins(recording: Recording) -> frozenset[int]:
    """The places of threads in which no plugin was met, if some were in others."""
    none = {k for k, each in enumerate(recording.threads) if not (each.look_owner > HOST).any()}
    return frozenset(none) if len(none) < len(recording.threads) else frozenset()


def ahead_by(own: Beat | None, period: float) -> int:
    """How many cycles (`period`, ns) lie between the turns of a thread that keeps its own, longer time; 1 for all
    others."""
    if own is None or own.share < AHEAD_EVEN:
        return 1
    times = round(own.period / period)
    return times if times > 1 and abs(own.period / (times * period) - 1) < AHEAD_EXACT else 1


def _servers_own(recording: Recording, may_lead: list[bool]) -> list[bool]:
    """Of the threads that may begin blocks those of the sound server, if one was heard: its clients wait for it."""
    server = recording.heard.server.process if recording.heard is not None else 0
    return [may and thread.process == server for may, thread in zip(may_lead, recording.threads, strict=True)]


def _with_plugins(recording: Recording) -> list[bool]:
    """Which threads compute plugins, to any extent beside the one that does most."""
    took = [int(each.look_weight[each.look_owner > HOST].sum()) for each in recording.threads]
    return [each > COMPUTES * max(took, default=0) for each in took]


def _other_role(recording: Recording, place: int) -> Role:
    """What a thread outside the engine does, as far as its name and place tell."""
    thread = recording.threads[place]
    if any(word in thread.name.lower() for word in DISK_WORDS):
        return "disk"
    return "window" if thread.number == thread.process else "other"


def _blocks(beats: Rhythm, engine: list[Turns]) -> Blocks:
    """The blocks that the turns of an engine make. The last one may not be complete, so it is left out."""
    begun = np.flatnonzero(beats.start)[:-1]
    start = beats.start[begun]
    border = np.append(start, beats.start[np.flatnonzero(beats.start)[-1]])
    end = start.copy()
    pushed, read = np.zeros((2, len(begun)), np.int64)
    began_late = np.append(start - beats.tick[begun] > BEGAN * beats.period, False)
    for each in engine:
        # What wakes at the same time as the leader, or just before it, belongs to this block; but what is through by
        # the time at which the leader comes late belongs to the block before, for which that has waited.
        place = np.searchsorted(border, each.begin + round(0.02 * beats.period), "right") - 1
        before = (each.end <= border[place] + LATE_BY) & (each.begin < border[place]) & began_late[place]
        place -= before & (place > 0)
        inside = (place >= 0) & (place < len(begun))
        np.maximum.at(end, place[inside], each.end[inside])
        np.add.at(pushed, place[inside], each.pushed[inside])
        np.add.at(read, place[inside], each.read[inside])
    tick = beats.tick[begun]
    late = (end > tick + beats.period + LATE_BY).astype(np.int64)
    # Blocks without a start of their own: computed right after the one before, or long after they were due.
    between = np.flatnonzero(beats.start[: begun[-1] + 1] == 0) if len(begun) else begun
    before = np.searchsorted(begun, between) - 1
    still = np.diff(begun)[before] * beats.period > STILL
    due = beats.tick[between]
    asleep = end[before] <= due
    missed = np.where(asleep, ~still, end[before] > due + beats.period + LATE_BY)
    np.add.at(late, before, missed)
    return Blocks(beats.period / 1e9, tick, start, end, (end - start) / beats.period, late, pushed, read)


class Lane(NamedTuple):
    """One thread in one stretch of time: when it had a core (`begin`, `end`, ns), after which of these it gave way, or
    waited until memory was `read` from the disk, and who computed there when looked at (`look_time`, `look_owner`).
    """

    thread: int
    begin: Times
    end: Times
    gave_way: NDArray[np.bool_]
    read: NDArray[np.bool_]
    look_time: Times
    look_owner: Times


def lanes(of: Seen, begin: int, end: int) -> list[Lane]:
    """What every thread did between two times (ns), engine first; threads that did nothing are left out."""
    found = []
    order = sorted(range(len(of.runs)), key=lambda k: (k != of.leader, of.roles[k] != "engine", k))
    for k in order:
        stretch, thread = of.runs[k], of.recording.threads[k]
        inside = (stretch.end > begin) & (stretch.begin < end)
        looked = (thread.look_time >= begin) & (thread.look_time < end)
        if inside.any():
            found.append(
                Lane(
                    k, np.maximum(stretch.begin[inside], begin), np.minimum(stretch.end[inside], end),
                    stretch.gave_way[inside], stretch.read[inside], thread.look_time[looked],
                    thread.look_owner[looked],
                )
            )  # fmt: skip
    return found
