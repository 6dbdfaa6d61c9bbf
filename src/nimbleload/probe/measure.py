"""What one plugin costs: at each buffer size, sounding and silent, its own rhythm apart from the machine's noise."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.cards.card import (
    Cell,
    Company,
    Condition,
    Inputs,
    Null,
    Paced,
    Polyphony,
    Position,
    Silence,
    Truth,
)
from ..core.cards.slowing import Slowing
from ..core.cards.summary import summarise
from ..core.cards.upkeep import Upkeep
from ..core.session.plugins import PluginUse
from .company import GOES, SIZES, find_company, find_footprint, second_level_cache
from .effort import FIRST, Effort
from .filling import LONGEST, find_filling
from .formats.hosted import Hosted, Note, PluginError
from .formats.per_channel import instances_of
from .inputs import find_inputs
from .memory_kept import Kept, find_instances, kept
from .messages import Again, Best, Place
from .neighbour import find_around
from .paced import PACED_SIZES, find_paced
from .polyphony import find_polyphony
from .signal import CYCLE, again, blocks_in_cycle, chord, musical, released
from .silence import find_silence
from .slowed import MOST_ROUNDS, ROUNDS, find_slowing
from .timed import NOTHING, TimedLoop, overhead_ns
from .truth import find_truth, null_against
from .upkeep import graphics, taken
from .witnessed import Runs, Witnessed

CYCLE_BLOCKS = 64
# The sizes at which an instrument is tried with more and more notes.
CHORD_SIZES = (256, 2048)
SILENCE = 10 ** (-90 / 20)
MOST_WAKING = 64
# What echoes is silent between its echoes: it is listened for so long (seconds) whether it goes on, for as long as that
# takes no more than so many times what a cell is given.
LONGEST_GAP, GAP_CELLS = 4.0, 2.0
# What dies away is softer than −90 dBFS behind its tail; voices are computed until they have ended, some while later.
VOICES_END = 1.6
# The middling block size at which it is found out what is true at any.
FACTS_FRAMES = 512
LEAST_ASIDE = 0.5e-6
# An instance is played for so many times as long as a cell to see whether it takes more memory.
KEEPING = 5


class Loaded(NamedTuple):
    """How long the first instance took to load (seconds), and what memory came with it."""

    seconds: float
    kept: Kept


class Facts(NamedTuple):
    """What is true of the plugin at any buffer size: latency in samples, tail in seconds (None: not within
    `listened` seconds). `positions` says where its parameters stand. After `filled` seconds of sound a block costs what
    it does from then on. It stands there in so many `instances`, and `hears` so many channels of its strip.
    """

    latency: int
    tail: float | None
    version: str
    truth: Truth
    positions: tuple[Position, ...]
    listened: float | None = None
    filled: float = 0.0
    instances: int = 1
    hears: int = 0


class InTurns(NamedTuple):
    """What a block takes once a deadline against in a row, and what it does to the clock, at few sizes."""

    paced: tuple[Paced, ...]
    slowing: tuple[Slowing, ...]


class Details(NamedTuple):
    """What is measured at one or two buffer sizes only."""

    company: tuple[Company, ...]
    silence: Silence
    upkeep: Upkeep
    polyphony: tuple[Polyphony, ...]
    inputs: Inputs | None
    paced: tuple[Paced, ...]
    slowing: tuple[Slowing, ...]


def begin(loop: TimedLoop, notes: tuple[Note, ...]) -> None:
    """Has a fresh instance play its first blocks."""
    loop.refresh(FACTS_FRAMES)
    loop.run(FACTS_FRAMES, 4, notes)


def kept_by(hosted: Hosted, voices: int, before: Kept) -> Kept:
    """What memory has come with a plugin's first instance since `before`, once it has played its first blocks."""
    few = np.zeros((len(hosted.inputs), 4 * FACTS_FRAMES), np.float32)
    begin(TimedLoop(hosted, few), chord(voices) if voices else ())
    return kept().since(before)


class Measurement:
    """Measures one hosted plugin at one rate. The cells come one by one, so that none is lost when it is ended.

    `best` is what this core has been seen to do; `alive` is called before every run, since a heavy plugin takes its
    time.
    """

    def __init__(
        self,
        hosted: Hosted,
        use: PluginUse,
        rate: int,
        effort: Effort,
        best: Best | None = None,
        alive: Callable[[], None] = lambda: None,
    ) -> None:
        self._hosted, self._rate, self._effort, self._voices = hosted, rate, effort, use.voices
        self._notes: tuple[Note, ...] = chord(use.voices) if use.voices else ()
        self._loop = TimedLoop(hosted, musical(len(hosted.inputs), rate))
        self._overhead = overhead_ns()
        self._witnessed = Witnessed(best)
        self._pace = self._witnessed.pace
        self._tail: float | None = None
        self._alive = alive

    @property
    def best(self) -> Best:
        """What this core has been seen to do at its best, before this and in it."""
        return self._witnessed.best

    def facts(self) -> Facts:
        """Latency, tail, version and pace; runs the plugin until its tail has died, at a middling block size."""
        frames = FACTS_FRAMES
        self._sound(frames, math.ceil(0.5 * self._rate / frames))
        self._hush(frames)
        self._tail = self._find_tail(frames)
        self._see_filling(self._tail if self._tail is not None else LONGEST)
        truth = find_truth(self._loop, self._notes, math.inf if self._tail is None else self._tail * self._rate)
        self._hosted.settled()
        parameters = self._hosted.parameters()
        positions = tuple(Position(p.name, p.value if p.plain is None else p.plain) for p in parameters)
        listened, filled = None if self._tail is not None else LONGEST, self._loop.filling / self._rate
        return Facts(
            self._hosted.latency, self._tail, self._hosted.version, truth, positions, listened, filled,
            instances_of(self._hosted), self._hosted.wiring.own,
        )  # fmt: skip

    def _see_filling(self, seconds: float) -> None:
        """Finds out how much sound the plugin takes until it is as dear as it gets, with a tail of so many seconds."""
        find_filling(
            self._loop, self._notes, self._rate, FACTS_FRAMES, max(seconds, 1.0), self._effort.filling, self._alive
        )  # fmt: skip

    def nulls(self, load: Callable[[PluginUse], Hosted], against: Sequence[PluginUse]) -> tuple[Null, ...]:
        """What null tests against the plugin in other settings leave; those that do not load are left out."""
        found = []
        for use in against:
            try:
                other = load(use)
            except PluginError:
                continue
            try:
                loop = TimedLoop(other, self._loop.source)
                depth = null_against(self._loop, loop, self._notes)
            except PluginError:
                continue
            finally:
                other.close()
            if depth is not None:
                found.append(Null(use.setting.digest(), use.voices, depth))
        return tuple(found)

    def _find_tail(self, frames: int) -> float | None:
        """When the output last exceeds −90 dBFS after the input ends, in seconds; None if it is still there at 15 s."""
        step = max(self._rate // frames // 5, 1)
        most = int(LONGEST * self._rate) // frames
        late = math.ceil(self._loop.latency / frames)
        least, gap = max(self._rate // frames // 2, CYCLE // frames + 1), int(LONGEST_GAP * self._rate) // frames
        peaks, listening = np.zeros(0, np.float32), 0.0
        while len(peaks) < most + gap:
            self._alive()
            begun = time.monotonic()
            peaks = np.concatenate((peaks, self._loop.silent_peaks(frames, step)))
            loud = np.flatnonzero(~(peaks <= SILENCE))
            last = int(loud[-1]) + 1 if len(loud) else 0
            quiet = len(peaks) - last - late
            if quiet > least:
                listening += time.monotonic() - begun
            if last > most:
                break
            if quiet >= (gap if listening < GAP_CELLS * self._effort.seconds else least):
                return last * frames / self._rate
        return None

    def first(self, frames: int) -> Iterator[Cell]:
        """First figures at one size, sounding and silent, within a fraction of a second."""
        self._effort = FIRST
        self._pace.hurry()
        self._see_filling(LONGEST)
        for cell in (*self._sounding(frames), self._silent(frames)):
            if cell.condition != "waking":
                yield msgspec.structs.replace(cell, provenance="first")

    def cells(self, buffers: Sequence[int]) -> Iterator[Cell]:
        """A sounding, a waking and a silent cell for each buffer size, in the order given."""
        for frames in buffers:
            yield from self._sounding(frames)
            yield self._silent(frames)

    def again(self, of: Again) -> Iterator[Cell]:
        """Only these cells: of the plugin everything else is known."""
        self._tail, self._loop.filling = of.tail, round(of.filled * self._rate)
        for frames, condition in of.places:
            yield self._silent(frames) if condition == "silent" else next(self._sounding(frames))

    def details(
        self,
        longest: int,
        place: Place | None,
        loaded: Loaded,
        load_another,
        alive: Callable[[], None],
    ) -> Details:
        """Company, silence, upkeep, and cost against notes (instruments) or against other input (all others).

        `longest` is the longest block the plugin was made for (samples); `load_another` loads a second instance, which
        plays on cores around its `place` to see what that costs this one. `alive` is called between the parts: each may
        take a while.
        """
        cache = second_level_cache(place.core if place is not None else None)
        company, patient = [], self._effort.is_patient
        own = (self._loop, self._pace, self._notes, self._rate)
        for frames in (size for size in SIZES if size <= longest):
            company.append(find_company(*own, frames, cache, self._overhead, patient))
            alive()
        paced, slowing = self.in_turns([size for size in PACED_SIZES if size <= longest])
        silence = find_silence(
            self._loop, self._pace, self._sound, self._hush, self._rate, self._overhead, 4 * self._effort.seconds
        )
        polyphony = []
        for frames in (size for size in CHORD_SIZES if size <= longest and self._voices > 1):
            alive()
            polyphony.append(find_polyphony(self._hosted, self._voices, self._rate, frames))
        inputs = None
        if not self._voices:
            own_time = self._overhead, self._effort.seconds
            inputs = find_inputs(self._hosted, self._loop.source, self._rate, self._pace, *own_time, self._alive)
        alive()
        upkeep = self._upkeep(cache, place, loaded, load_another)
        return Details(tuple(company), silence, upkeep, tuple(polyphony), inputs, paced, slowing)

    def in_turns(self, sizes: Sequence[int]) -> InTurns:
        """What a block of these sizes costs once a deadline, and what it does to the clock of its core."""
        paced, slowing = [], []
        most = MOST_ROUNDS if self._effort.is_patient else ROUNDS
        for frames in sizes:
            own = (self._hosted, self._loop, self._notes, self._rate, frames)
            paced.append(find_paced(*own, self._overhead, self._alive, self.best.units, self._effort.seconds))
            slowing.append(find_slowing(*own, self._alive, self.best.clock, most))
        return InTurns(tuple(paced), tuple(slowing))

    def _upkeep(self, cache: int, place: Place | None, loaded: Loaded, load_another) -> Upkeep:
        """Runs a second of sound and counts what the system gave for it; then loads a second instance and counts."""
        frames, seconds = 512, 1.0
        self._loop.run(frames, 4, self._loop.fill(frames, self._notes))
        idle, before = taken(), taken()
        self._loop.run(frames, math.ceil(seconds * self._rate / frames))
        after = taken()
        footprint = find_footprint(self._hosted, self._pace, frames, cache, GOES if self._effort.is_patient else 1)
        read = max(after.read - before.read - (before.read - idle.read), 0)
        faults = max(after.faults - before.faults - (before.faults - idle.faults), 0)
        there = kept()
        begun = time.monotonic()
        try:
            another = load_another()
        except PluginError as error:
            # Some can be there only once, which says nothing against what was measured of the first.
            own = loaded.kept.own + loaded.kept.files
            return Upkeep(
                own, footprint, loaded.seconds, faults / seconds, read / seconds, graphics=graphics(), pool=0,
                code=loaded.kept.code, refused=str(error),
            )  # fmt: skip
        again = time.monotonic() - begun
        beside_it = TimedLoop(another, self._loop.source, silence=self._loop.silence)
        begin(beside_it, self._notes)

        def play(stretch: float) -> None:
            self._alive()
            beside_it.run(frames, math.ceil(stretch * self._rate / frames), self._notes)

        memory = find_instances(loaded.kept, there, play, KEEPING * self._effort.seconds)
        around = find_around(another, self._loop, self._pace, self._notes, place, self._overhead)
        another.close()
        return Upkeep(
            memory.each, footprint, loaded.seconds, faults / seconds, read / seconds, around.beside, graphics(),
            len(place.others) if place is not None else 0, around.paired, around.slower, memory.pool, memory.code,
            memory.grows, again,
        )  # fmt: skip

    def _sound(self, frames: int, blocks: int, told: NDArray[np.int64] = NOTHING) -> NDArray[np.int64]:
        """A run from a fresh state, with the same input every time."""
        self._alive()
        self._loop.refresh(frames)
        self._alive()
        times = self._loop.run(frames, blocks, self._notes, told=told)
        if self._loop.failed > self._loop.called // 2:
            raise PluginError(
                f"says of itself that it failed in {self._loop.failed} of {self._loop.called} blocks, "
                f"so its figures would be those of a plugin that does not work"
            )
        return times

    def _hush(self, frames: int) -> None:
        """Ends the notes, if there are any, and the input."""
        self._loop.run(frames, 1, released(self._notes), silent=True)

    def _lead(self, frames: int, typical_ns: float) -> int:
        """Blocks to leave out at the start, in whole cycles: caches fill, and what the plugin remembers fills up.

        That takes as long as its tail; a costly plugin is given no longer than the time allowed for a cell.
        """
        cycle = max(blocks_in_cycle(frames, self._notes), 4)
        remembered = min(self._tail or 0.0, LONGEST) * self._rate / frames
        allowed = self._effort.seconds / 2 / self._effort.runs * 1e9 / max(typical_ns, 50.0)
        return math.ceil(max(cycle, min(remembered, allowed)) / cycle) * cycle

    def _blocks(self, frames: int, typical_ns: float) -> int:
        """How many blocks to time in a run: whole cycles, within the time allowed but at least two cycles' worth."""
        cycle = blocks_in_cycle(frames, self._notes)
        allowed = self._effort.seconds * 1e9 / self._effort.runs / max(typical_ns, 50.0)
        wanted = min(max(allowed, 24, 2 * cycle), 4096)
        return max(cycle, round(wanted / cycle) * cycle)

    def _sounding(self, frames: int) -> Iterator[Cell]:
        """The cell of a steady sound, and that of the first blocks before it, from the same runs."""
        if self._loop.filling:
            yield from self._filled(frames)
            return
        typical = float(np.mean(self._sound(frames, 2 * self._lead(frames, 1e9))))
        lead, blocks = self._lead(frames, typical), self._blocks(frames, typical)
        runs, aside = self._beside(lambda told: self._sound(frames, lead + blocks, told), lead + blocks)
        yield self._summary(runs, slice(lead, None), frames, "sounding", aside)
        yield self._summary(runs, slice(min(lead, MOST_WAKING)), frames, "waking")

    def _filled(self, frames: int) -> Iterator[Cell]:
        """The same where it takes long until a block costs what it does from then on: once, for consecutive runs."""
        self._alive()
        notes = self._loop.fill(frames, self._notes)
        typical = float(np.mean(self._loop.run(frames, blocks_in_cycle(frames, self._notes), notes)))
        blocks = self._stretch(frames, typical, self._notes)

        def go_on(told: NDArray[np.int64]) -> NDArray[np.int64]:
            self._alive()
            self._loop.rewind()
            return self._loop.run(frames, blocks, again(self._notes), told=told)

        runs, aside = self._beside(go_on, blocks)
        yield self._summary(runs, slice(None), frames, "sounding", aside)
        waking = min(self._lead(frames, typical), MOST_WAKING)
        runs, _ = self._beside(lambda told: self._sound(frames, waking, told), waking)
        yield self._summary(runs, slice(None), frames, "waking")

    def _stretch(self, frames: int, typical: float, notes: tuple[Note, ...] = ()) -> int:
        """How many blocks to time in runs that follow each other: what comes every so many of them must fall on the
        same ones in each."""
        blocks, allowed = self._blocks(frames, typical), 4e9 * self._effort.seconds
        if blocks % CYCLE_BLOCKS and not notes and typical * CYCLE_BLOCKS * self._effort.runs < allowed:
            blocks = math.ceil(blocks / CYCLE_BLOCKS) * CYCLE_BLOCKS
        return blocks

    def _silent(self, frames: int) -> Cell:
        """After sounding, when the tail has died: consecutive stretches of whole cycles stand for the runs."""
        self._sound(frames, max(self._lead(frames, 1e9), math.ceil(0.1 * self._rate / frames)))
        self._hush(frames)
        dies = (self._tail or 0.5) * (VOICES_END if self._notes else 1.0)
        settle = math.ceil((0.1 + dies) * self._rate / frames) + CYCLE // frames
        step = max(settle // 16, 1)
        until = time.monotonic() + 4 * self._effort.seconds
        typical = 1e9
        while settle > 0 and time.monotonic() < until:
            self._alive()
            typical = float(np.mean(self._loop.run(frames, step, silent=True)))
            settle -= step
        blocks = self._stretch(frames, 2 * typical)
        runs, aside = self._beside(lambda told: self._loop.run(frames, blocks, silent=True, told=told), blocks)
        return self._summary(runs, slice(None), frames, "silent", aside)

    def _beside(self, run: Callable[[NDArray[np.int64]], NDArray[np.int64]], blocks: int) -> tuple[Runs, float]:
        """Runs of so many blocks, and what the plugin's own threads and processes took a block (seconds)."""
        before, called = self._loop.aside, self._loop.called
        self._loop.counts_aside = True
        runs = self._witnessed.runs(run, blocks, self._effort.runs)
        self._loop.counts_aside = False
        aside = (self._loop.aside - before) / max(self._loop.called - called, 1)
        # A thread that wakes up now and then to see that there is nothing to do is no helper.
        return runs, aside if aside > max(LEAST_ASIDE, 0.01 * float(runs.times.mean()) / 1e9) else 0.0

    def _summary(self, of: Runs, part: slice, frames: int, condition: Condition, aside: float = 0.0) -> Cell:
        """The cell of a part of the blocks of some runs: their own time, and what the machine added to it."""
        times, own = (np.maximum(each[..., part] - self._overhead, 0) for each in (of.times, of.own))
        made = summarise(times, of.quiet, self._rate, frames, condition, own)
        return msgspec.structs.replace(
            made, aside=aside, clock=of.clock, shared=of.shared, latency=self._loop.latency
        )  # fmt: skip
