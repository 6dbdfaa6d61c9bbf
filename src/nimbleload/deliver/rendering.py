"""Renders strips one after the other, each in a process of its own, and adds up what feeds the next.

What comes out of each is moved back by what its plugins come late, so that all that meets is in time, as with a host's
delay compensation. No sound has to fit into memory.
"""

from __future__ import annotations

import hashlib
import math
import shutil
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.session.controllers import Told, told
from ..core.session.expressions import KINDS
from ..core.session.expressions import told as expressed
from ..core.session.panning import sides
from ..core.session.session import Timing
from ..core.told.trouble import trouble_of
from ..probe import isolation
from ..probe.messages import (
    CHANNELS,
    HEARD,
    NOTE_COLUMNS,
    NOTES,
    RENDERED,
    SOURCE,
    LoadingMessage,
    PlayingMessage,
    RenderedMessage,
    RenderRequest,
)
from ..store import audio, scratch
from ..store.allowed import allowed
from ..store.audio import Sources
from ..store.sounding import Sounding
from .asked import Asked
from .in_order import CORES, Work, in_order
from .stage import Feed, Panned, Stage

TAIL_SECONDS = 15.0
FRAME = CHANNELS * 4
# Room that must stay free on a disk (bytes).
SPARE = 256 << 20
# As many strips are rendered at once as there are cores, of however many jobs.
TURNS = threading.BoundedSemaphore(CORES)
# What a strip without plugins counts as in how far all are, in plugins.
OWN = 0.5
STOPPED = "it was stopped; nothing of it was kept"


class Elsewhere(NamedTuple):
    """Where a strip's audio, and its plugins by use, lie that come from another session than the others."""

    sources: Sources
    paths: Mapping[str, str]


class RenderError(Exception):
    """Why a strip was not rendered, in a sentence."""


class Rendering:
    """One rendering of stages at one block size, to be used with `with`; `result` and `sound` are those of the last.
    `computed` is how long the plugins of all took (seconds); `one_sided` are those that heard one of two sides alone.

    `paths` says where each plugin lies, by use; `samples` how long what is played lasts at most; `timing` how
    the piece goes; `elsewhere` the strips (ids) whose audio and plugins lie in other places.
    """

    def __init__(
        self, stages: Sequence[Stage], sources: Sources, paths: Mapping[str, str], rate: int, buffer: int, samples: int,
        timing: Timing, elsewhere: Mapping[str, Elsewhere] | None = None,
    ) -> None:  # fmt: skip
        self._stages, self._timing, self._elsewhere = stages, timing, elsewhere or {}
        self._usual = Elsewhere(sources, paths)
        self._rate, self._buffer, self._samples = rate, buffer, samples
        self._sums = scratch.Folder("sums")
        self._chains: dict[int, _Chain] = {}
        # One reads audio files at a time.
        self._reading = threading.Lock()
        self.computed, self.one_sided = 0.0, list[str]()

    def __enter__(self) -> Rendering:
        return self

    def __exit__(self, *_: object) -> None:
        for chain in self._chains.values():
            chain.close()
        self._sums.cleanup()

    @property
    def result(self) -> RenderedMessage:
        return self._last.result

    @property
    def _last(self) -> _Chain:
        assert list(self._chains) == [len(self._stages) - 1], "it has not been rendered"
        return self._chains[len(self._stages) - 1]

    def render(self, asked: Asked) -> Iterator[float]:
        """Renders, and tells which share is done. RenderError if a plugin ends it, or it is stopped."""
        numbers = {stage.strip.id: number for number, stage in enumerate(self._stages)}
        waits: list[set[int]] = [set() for _ in self._stages]
        for number, stage in enumerate(self._stages):
            for target in {feed.target for feed in stage.feeds} & numbers.keys():
                waits[numbers[target]].add(number)
        within = Asked(asked)
        pieces = [
            Work(waits[number], partial(self._begin, number, within), partial(self._end, number), OWN + len(stage.uses))
            for number, stage in enumerate(self._stages)
        ]
        yield from in_order(pieces, self._has_room, within)

    def _begin(self, number: int, asked: Asked) -> Callable[[], Iterator[float]]:
        """What renders a stage that all has been added to, once a core has nothing else to render."""
        stage = self._stages[number]
        fed = self._sum_for(stage)
        frames = fed.stat().st_size // FRAME if fed.exists() else 0
        # What a side-chain hears may begin late in the piece, and go on while what listens to it rings.
        own = round(max(ends_of(stage.sounding), default=0.0) * self._rate)
        samples = max(self._samples, frames, min(own, self._samples + int(TAIL_SECONDS * self._rate)))
        heard = [self._folder / _file(stage.strip.id, use.id) for use in stage.uses]
        lies = self._elsewhere.get(stage.strip.id, self._usual)

        def run() -> Iterator[float]:
            try:
                with turn(asked):
                    chain = self._chains[number] = _Chain(
                        stage, lies.sources, lies.paths, self._rate, self._buffer, samples, self._timing
                    )  # fmt: skip
                    yield from chain.render(fed, heard, asked, self._reading)
            except RenderError as error:
                raise RenderError(f"{stage.strip.name}: {error}" if len(self._stages) > 1 else str(error)) from error

        return run

    def _end(self, number: int) -> None:
        """Adds what came out of a stage to what it feeds, and lets go of it, unless it is the last."""
        stage, chain = self._stages[number], self._chains[number]
        self.computed += chain.result.computed
        self.one_sided += chain.result.one_sided
        self._sum_for(stage).unlink(missing_ok=True)
        for feed in stage.feeds:
            add(self._folder / _file(feed.target, feed.use), chain.stretches(), feed, self._rate)
        if number < len(self._stages) - 1:
            self._chains.pop(number).close()

    def _has_room(self) -> bool:
        """Whether what goes into another stage, and what comes out, lies beside what is there."""
        needed = 4 * FRAME * (self._samples + int(TAIL_SECONDS * self._rate))
        return shutil.disk_usage(self._folder).free > needed + SPARE

    @property
    def _folder(self) -> Path:
        return Path(self._sums.name)

    def _sum_for(self, stage: Stage) -> Path:
        return self._folder / _file(stage.strip.id)

    def sound(self) -> NDArray[np.float32]:
        """What came out of the last (n, 2, float32; read from the disk as needed)."""
        return self._last.sound()

    def stretches(self) -> Iterator[NDArray[np.float32]]:
        """The same, stretch by stretch."""
        return self._last.stretches()

    def fed_to(self, target: str) -> Iterator[NDArray[np.float32]]:
        """What was fed to something that is no stage of it (its id), stretch by stretch."""
        path = self._folder / _file(target)
        return _read(path) if path.exists() else iter(())


@contextmanager
def turn(asked: Asked) -> Iterator[None]:
    """Waits until a core has nothing to render. RenderError if it was stopped before."""
    while not TURNS.acquire(timeout=0.1):
        if asked.is_stopped():
            raise RenderError(STOPPED)
    try:
        yield
    finally:
        TURNS.release()


def _file(strip_id: str, use_id: str = "") -> str:
    """A file name for whatever the ids of a strip and of a plugin on it are."""
    return f"{hashlib.sha256(msgspec.json.encode((strip_id, use_id))).hexdigest()}.sum"


def peak_of(stretches: Iterator[NDArray[np.float32]]) -> float:
    """The highest sample of a sound (linear)."""
    return max((float(np.abs(each).max()) for each in stretches if len(each)), default=0.0)


def ends_of(sounding: Sounding) -> list[float]:
    """When each part and note of a track ends (seconds), with what a pedal does to notes."""
    last = max((note.end for note in sounding.notes), default=0.0)
    held = [last if end == math.inf else end for _, end in sounding.held()]
    return [part.end for part in sounding.parts] + held


def add(path: Path, stretches: Iterator[NDArray[np.float32]], feed: Feed, rate: int) -> None:
    """Adds sound (n, 2, float32 each) to what lies in a file, from its beginning on; the file grows as it needs to.

    On the way it is made louder or softer, and panned, as a feed says, at a rate in hertz.
    """
    path.touch()
    moving = [curve.at(rate) for curve in feed.curves]
    with path.open("r+b") as file:
        for stretch in stretches:
            at = file.tell()
            there = np.frombuffer(file.read(stretch.nbytes), np.float32)
            samples = np.arange(at // FRAME, at // FRAME + len(stretch))
            moved = np.full(len(stretch) if moving else 1, feed.gain)
            for each in moving:
                moved *= each.values(samples)
            gains = moved[:, None] if feed.panned is None else moved[:, None] * _sides(feed.panned, samples, rate)
            made = (stretch * gains.astype(np.float32)).reshape(-1)
            made[: len(there)] += there
            file.seek(at)
            file.write(made.tobytes())


def _sides(panned: Panned, samples: NDArray[np.int64], rate: int) -> NDArray[np.float64]:
    """How loud each side is at samples of the piece (n or 1, 2; linear)."""
    moving = panned.moving
    return sides(panned.law, np.array([panned.still]) if moving is None else moving.at(rate).values(samples))


class _Chain:
    """One strip through its plugins: a worker, and the file that comes out of it."""

    def __init__(
        self, stage: Stage, sources: Sources, paths: Mapping[str, str], rate: int, buffer: int, samples: int,
        timing: Timing,
    ) -> None:  # fmt: skip
        self._stage, self._sources, self._rate, self._samples = stage, sources, rate, samples
        self.result = RenderedMessage(0, 0, True)
        may = {each for use in stage.uses for each in allowed(use.plugin.standard, use.plugin.identifier)}
        tail = TAIL_SECONDS if stage.uses else 0.0
        own = {use.id: paths[use.id] for use in stage.uses}
        notes = stage.sounding.notes if stage.plays_notes else ()
        moved = {each.kind for note in notes for each in note.expressions}
        self._worker = isolation.Worker(
            RenderRequest(
                stage.uses, rate, buffer, samples, tail, own, stage.plays_notes, allowed=tuple(sorted(may)),
                moving=tuple(each for each in stage.sounding.moving if each.use in own), timing=timing,
                turns=bool(stage.plays_notes and stage.sounding.controllers), expresses=tuple(sorted(moved)),
            )
        )  # fmt: skip

    def close(self) -> None:
        self._worker.close()

    def render(
        self, fed: Path, heard: Sequence[Path], asked: Asked, reading: threading.Lock
    ) -> Iterator[float]:  # fmt: skip
        """Renders what the strip plays and what is fed to it, if there is such a file, while the side-chain of each
        plugin hears what lies in its file, if there is one; tells which share is done."""
        mixed = audio.mixed(self._sources, self._stage.sounding.parts, self._rate, self._samples)
        with reading, (self._worker.folder / SOURCE).open("wb") as out:
            for stretch in mixed:
                if not asked.goes_on():
                    raise RenderError(STOPPED)
                out.write(stretch.tobytes())
        if fed.exists():
            add(self._worker.folder / SOURCE, _read(fed), Feed(self._stage.strip.id, 1.0), self._rate)
        for number, path in enumerate(heard):
            if path.exists():
                shutil.move(path, self._worker.folder / HEARD.format(number))
        if self._stage.plays_notes:
            events(self._stage, self._rate).tofile(self._worker.folder / NOTES)
        loading = ""
        for message in self._worker.results(asked.is_stopped, paused=asked.is_still):
            if isinstance(message, isolation.Failure):
                raise RenderError(trouble_of(loading, message.reason).rstrip(".") if loading else message.reason)
            if isinstance(message, LoadingMessage):
                loading = message.name
            elif isinstance(message, PlayingMessage):
                loading = ""
                yield message.done / max(message.total, 1)
            elif isinstance(message, RenderedMessage):
                self.result = message
                return
        raise RenderError(STOPPED)

    def sound(self) -> NDArray[np.float32]:
        """What came out, moved back by what it comes late (n, 2, float32; read from the disk as needed)."""
        path = self._worker.folder / RENDERED
        if path.stat().st_size == 0:
            return np.zeros((0, CHANNELS), np.float32)
        return np.memmap(path, np.float32, "r").reshape(-1, CHANNELS)[self.result.latency :]

    def stretches(self) -> Iterator[NDArray[np.float32]]:
        """The same, stretch by stretch."""
        sound = self.sound()
        for first in range(0, len(sound), audio.BLOCK):
            yield np.array(sound[first : first + audio.BLOCK])


def _read(path: Path) -> Iterator[NDArray[np.float32]]:
    """Sound from a file, stretch by stretch (n, 2)."""
    with path.open("rb") as file:
        while found := file.read(audio.BLOCK * FRAME):
            yield np.frombuffer(found, np.float32).reshape(-1, CHANNELS)


def events(stage: Stage, rate: int) -> NDArray[np.float64]:
    """What a strip plays, in order (E, 5: sample, key, 1 or 0 for the start or the end of a note, velocity, channel;
    sample, number, −1, value, channel for a controller; sample, key, 2 + number, value, channel for an expression). On
    one sample controllers come first, ends before starts, and what a note does after its start."""
    rows: list[tuple[int, int, float, float, int]] = []

    def tell(key: int, kind: float, channel: int, turns: Told) -> None:
        samples, values = (each.tolist() for each in turns)
        rows.extend((at, key, kind, value, channel) for at, value in zip(samples, values, strict=True))

    for controller in stage.sounding.controllers:
        tell(controller.number, -1.0, controller.channel, told(controller, rate))
    for note in stage.sounding.notes:
        begin = round(note.start * rate)
        end = max(round(note.end * rate), begin + 1)
        rows += [(at, note.key, on, note.velocity, note.channel) for at, on in ((begin, 1.0), (end, 0.0))]
        for each in note.expressions:
            tell(note.key, 2.0 + KINDS.index(each.kind), note.channel, expressed(each, rate, begin, end))
    return np.array(sorted(rows, key=lambda row: (row[0], row[2], row[1])), np.float64).reshape(-1, NOTE_COLUMNS)
