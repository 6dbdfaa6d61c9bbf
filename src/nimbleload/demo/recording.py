"""A recording of a host that plays the example, made by code: what watching it would have shown.

The blocks are those that the load computation arranges for the storm's end; a burst every eighth block, a little
unsteadiness, a window that draws and a disk thread are put beside them; before it, a host that saves its session.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..core.cards.card import Cards
from ..core.decisions.decision import Plan
from ..core.survey import Instant, Survey, instant, survey
from ..core.watching.blocks import Seen, see
from ..core.watching.held_memory import Held as HeldMemory
from ..core.watching.history import History, Past
from ..core.watching.records import HOST, SLEEPS, TAKES, Recording, Thread
from .session import BUFFER, MACHINE, session

SECOND = 236.0
SECONDS = 12.0
# The computer that plays it is faster than the one the example is planned for: so much of the computed costs. Of each
# track's time so much is its plugins'.
SCALE, PLUGINS = 0.43, 0.94
BURST_EVERY, BURST, UNSTEADY, RARE, MUCH = 8, 1.18, 0.02, 0.004, 1.7
LOOK_NS = 1_000_000
WINDOW, DISK = 16_600_000, 42_000_000
PROCESS = 4100
# For so many minutes it has been watched before; every so many seconds (not always) the session is saved, which holds
# the engine up for so long (ns); who hears that says so after a while (ns).
MINUTES, SAVED_EVERY, SAVES, HEARD_AFTER = 24, 120, 4_000_000, 1_100_000_000
# What the host itself keeps in memory, and its files (bytes).
OWN, FILES = 310 << 20, 140 << 20


class Held(NamedTuple):
    """A block (by its number) in which the engine waits for so long (ns), while a thread saves the session."""

    block: int
    ns: int


def recording(cards: Cards, rare: float = RARE, held: Held | None = None) -> Recording:
    """The recording; the same every time. Some blocks in so many (`rare`) take much longer; one may be `held`."""
    rng = np.random.default_rng(4)
    of = survey(session(), Plan(), cards, MACHINE, BUFFER)
    at = instant(of, SECOND)
    period = round(of.deadline * 1e9)
    count = int(SECONDS / of.deadline)
    stretch = SCALE * (1 + UNSTEADY * rng.standard_normal(count))
    stretch[::BURST_EVERY] *= BURST
    stretch[rng.random(count) < rare] *= MUCH
    begun = 1_000_000_000
    tick = begun + np.arange(count) * period + rng.integers(4_000, 30_000, count)
    files: list[str] = []
    engine = []
    for core in range(of.threads):
        pieces = _pieces(of, at, core, files)
        engine.append(_engine_thread(core, pieces, tick, stretch, rng, held))
    ended = int(tick[-1]) + period
    beside = [_beside(PROCESS, "mixer", WINDOW, 3_100_000, begun, ended, rng),
              _beside(PROCESS + 9, "disk reader", DISK, 900_000, begun, ended, rng)]  # fmt: skip
    beside.append(_saving(int(tick[held.block]), held.ns) if held is not None else _saving(0, 0))
    kept = of.memory.bytes
    memory = tuple(HeldMemory(time, kept + OWN, FILES, 0, kept + OWN) for time in range(begun, ended, 1_000_000_000))
    return Recording(
        begun, ended, (*engine, *beside), tuple(files), {PROCESS: "mixer"}, 0, 1.6e-6, memory=memory
    )  # fmt: skip


def past(cards: Cards, last: Recording) -> Past:
    """What watching would have shown in the minutes before a recording: a host that saves its session again and again,
    and holds its engine up each time. Somebody listens, and says so of some of them."""
    history, seconds = History(), round(SECONDS)
    calm, saving = see(recording(cards, 0.0)), see(recording(cards, 0.0, Held(round(0.5 * SECONDS / 0.00533), SAVES)))
    first = -MINUTES * 60
    for begun in range(first, 0, seconds):
        saves = begun % SAVED_EVERY == 0 and begun not in (first, first + 2 * SAVED_EVERY)
        for found in history.take(_later(saving if saves else calm, begun), last=True):
            if begun >= first + MINUTES * 30:
                history.mark(found.time + HEARD_AFTER)
    history.take(see(last), last=True)
    return history.past


def _later(of: Seen, seconds: int) -> Seen:
    """What was seen, as if it had been so much later."""
    by = seconds * 1_000_000_000
    assert of.blocks is not None
    blocks = of.blocks._replace(tick=of.blocks.tick + by, start=of.blocks.start + by, end=of.blocks.end + by)
    runs = [each._replace(begin=each.begin + by, end=each.end + by) for each in of.runs]
    threads = tuple(
        each._replace(look_time=each.look_time + by, switch_time=each.switch_time + by) for each in of.recording.threads
    )
    record = of.recording._replace(begun=of.recording.begun + by, ended=of.recording.ended + by, threads=threads)
    return of._replace(recording=record, blocks=blocks, runs=runs)


def _saving(begin: int, ns: int) -> Thread:
    """A thread that saves the session, for so long from some time on (ns); for no time it never does."""
    time, looks = np.array([begin, begin + ns] if ns else [], np.int64), np.arange(begin, begin + ns, LOOK_NS)
    kind, core = np.array([TAKES, SLEEPS])[: len(time)], np.full(len(time), 2)
    owner, weight = np.full(len(looks), HOST), np.full(len(looks), LOOK_NS)
    return Thread(PROCESS, PROCESS + 12, "autosave", False, time, kind, core, looks, owner, weight)


def _pieces(of: Survey, at: Instant, core: int, files: list[str]) -> list[tuple[float, float, int]]:
    """What one core computes in the block: from when to when (seconds), and whose code. Adds to `files`."""
    strips, block = of.planned.session.strips, at.block
    found = []
    for task in np.flatnonzero(block.core == core):
        time, strip = float(block.start[task]), strips[task % len(strips)]
        own = [at.use_costs.get(use.id, 0.0) for use in strip.live_uses()]
        scale = PLUGINS * (float(block.end[task]) - time) / max(sum(own), 1e-12)
        for use, seconds in zip(strip.live_uses(), own, strict=True):
            file = f"/example/{use.plugin.name}.lv2"
            if file not in files:
                files.append(file)
            found.append((time, time + scale * seconds, files.index(file) + 1))
            time += scale * seconds
        if float(block.end[task]) > time:
            found.append((time, float(block.end[task]), HOST))
    return sorted(found)


def _engine_thread(
    core: int, pieces: list[tuple[float, float, int]], tick: NDArray[np.int64], stretch: NDArray[np.float64], rng,
    held: Held | None,
) -> Thread:  # fmt: skip
    """All blocks of one thread of the engine. Pieces without a gap between them are one stretch of work."""
    begins, ends = np.array([p[0] for p in pieces]) * 1e9, np.array([p[1] for p in pieces]) * 1e9
    gap = np.concatenate(([True], begins[1:] > ends[:-1] + 3_000))
    last = np.append(np.flatnonzero(gap)[1:] - 1, len(pieces) - 1)
    begin = tick[:, None] + stretch[:, None] * begins[gap]
    end = tick[:, None] + stretch[:, None] * ends[last]
    # The first thread wakes with the device; the others are woken by it.
    begin[:, 0] = tick + (0 if core == 0 else 9_000)
    if held is not None and core > 0:
        begin[held.block] += held.ns
        end[held.block] += held.ns
    begin, end = begin.ravel().astype(np.int64), np.maximum(end, begin + 1_000).ravel().astype(np.int64)
    begin[1:] = np.maximum(begin[1:], end[:-1] + 500)
    end = np.maximum(end, begin + 500)
    time = np.column_stack((begin, end)).ravel()
    spent = np.concatenate(([0], np.cumsum(end - begin)))
    weight = rng.integers(round(0.75 * LOOK_NS), round(1.25 * LOOK_NS), int(spent[-1] / LOOK_NS * 1.5))
    after = np.cumsum(weight)
    after = after[after < spent[-1]]
    place = np.searchsorted(spent, after, "right") - 1
    looks = begin[place] + after - spent[place]
    # Which piece of its block that was, in the block's own time.
    block = np.clip(np.searchsorted(tick, looks, "right") - 1, 0, len(tick) - 1)
    inside = (looks - tick[block]) / stretch[block]
    owner = np.array([p[2] for p in pieces])[np.clip(np.searchsorted(begins, inside, "right") - 1, 0, None)]
    kind = np.tile(np.array([TAKES, SLEEPS]), len(begin))
    return Thread(
        PROCESS, PROCESS + 1 + core, f"engine {core + 1}", True, time, kind, np.full(len(time), core), looks,
        owner.astype(np.int64), weight[: len(after)].astype(np.int64),
    )  # fmt: skip


def _beside(number: int, name: str, every: int, busy: int, begun: int, ended: int, rng) -> Thread:
    """A thread beside the engine that works for a while, now and then."""
    begin = np.arange(begun + 3_000_000, ended - 2 * every, every)
    begin += rng.integers(0, every // 3, len(begin))
    end = begin + (busy * rng.uniform(0.6, 1.2, len(begin))).astype(np.int64)
    time = np.column_stack((begin, end)).ravel().astype(np.int64)
    kind = np.tile(np.array([TAKES, SLEEPS]), len(begin))
    looks = ((begin + end) // 2).astype(np.int64)
    return Thread(
        PROCESS, number, name, False, time, kind, np.full(len(time), 1), looks, np.full(len(looks), HOST), end - begin
    )
