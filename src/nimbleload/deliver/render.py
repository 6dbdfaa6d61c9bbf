"""Carrying out a freeze or a bounce: the track is rendered in a process of its own, and the file is proven.

A job renders the track's own audio through its plugins up to the place where it is cut, in blocks of the host's size,
with the tail; what comes late is moved back. Then it is rendered again at another block size, and what the two differ
by says whether the file is the track.
"""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.decisions.decision import Plan
from ..core.decisions.rendering import last_place
from ..core.session.plugins import PluginUse
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..probe import isolation, session_run
from ..probe.messages import (
    CHANNELS,
    NOTES,
    RENDERED,
    SOURCE,
    LoadingMessage,
    PlayingMessage,
    RenderedMessage,
    RenderRequest,
)
from ..store import atomic, audio
from ..store.allowed import allowed
from ..store.audio import AudioError, Sources
from ..store.dawproject import Sounding
from .difference import NOTHING_DB, Difference, decibels

TAIL_SECONDS = 15.0
# What two renders may differ by and still be the same, or the same but for rounding (dBFS, the highest sample).
SAME_DB, ROUNDED_DB = -120.0, -100.0
# Room that must stay free beside the files (bytes).
SPARE = 256 << 20


class Proof(msgspec.Struct, frozen=True):
    """How far a file is the track: what rendering it again at another block size differs by, at most and on average
    (dBFS), and where the most (seconds). `verdict`: "same", "rounded" (the same but for rounding), "random" (it never
    sounds the same twice) or "different" (it sounds different at another block size)."""

    verdict: str
    peak_db: float = NOTHING_DB
    rms_db: float = NOTHING_DB
    at: float = 0.0
    other_buffer: int = 0


class Rendered(msgspec.Struct, frozen=True):
    """A file that a job has made. `made_of` is a digest of everything that went into it."""

    strip: str
    file: str
    made_of: str
    seconds: float
    peak_db: float
    latency: int
    dies: bool
    wrong: int
    proof: Proof | None = None


class Job(msgspec.Struct, frozen=True):
    """A track to render through the place `through` of its chain: `uses` are the plugins that are in it."""

    strip: Strip
    through: int
    uses: tuple[PluginUse, ...]
    sounding: Sounding
    rate: int
    buffer: int
    samples: int

    @property
    def name(self) -> str:
        return self.strip.name

    def file_name(self, kind: str) -> str:
        """What the file is called: the track's name, without what file systems mind."""
        plain = "".join(each if each.isalnum() or each in " -_." else "-" for each in self.name).strip(" .") or "track"
        return f"{plain} {hashlib.sha256(self.strip.id.encode()).hexdigest()[:6]}.{kind}"


class Step(msgspec.Struct, frozen=True):
    """What a job is doing; `share` of it is done (0 … 1). `rendered`: it is through; `trouble`: why it has ended."""

    job: Job
    doing: str
    share: float
    rendered: Rendered | None = None
    trouble: str = ""


def jobs(session: Session, plan: Plan, audio_of: dict[str, Sounding], buffer: int) -> list[Job]:
    """The freezes and bounces of single tracks that a plan holds, in its order."""
    found = []
    for decision in plan.decisions:
        if decision.kind not in ("freeze", "bounce") or decision.start is not None:
            continue
        strip = session.strip(decision.strip)
        through = last_place(strip, decision)
        uses = tuple(use for place, use in strip.places() if place <= through and use.enabled)
        sounding = audio_of.get(strip.id, Sounding())
        ends = [part.end for part in sounding.parts] + [note.end for note in sounding.notes]
        samples = round(max(ends, default=0.0) * session.rate)
        found.append(Job(strip, through, uses, sounding, session.rate, buffer, samples))
    return found


def obstacles(job: Job) -> list[str]:
    """Why a track cannot be rendered truthfully, in sentences; empty if it can."""
    found = []
    if job.strip.instrument is not None and job.sounding.notes:
        if job.sounding.parts:
            found.append("notes and audio lie on it together: how the host mixes them is not known")
    elif job.strip.instrument is not None:
        found.append("no notes of its instrument are known: the session does not come from a file with notes")
    elif job.strip.kind != "track":
        found.append("it is no track with audio of its own: rendering what feeds it is not possible yet")
    elif not job.sounding.parts:
        found.append("no audio of it is known: the session does not come from an exchange file with audio")
    if job.sounding.automated:
        found.append("parameters of its plugins are automated, which is not rendered yet")
    if job.sounding.curves:
        found.append("its clips hold curves of their own (controllers, gain), which are not rendered yet")
    stretched = sum(part.stretched for part in job.sounding.parts)
    if stretched:
        found.append(f"{stretched} of its clips are stretched: the host plays them in its own way")
    other = sorted({part.rate for part in job.sounding.parts if part.rate not in (0, job.rate)})
    if other:
        found.append(f"it plays audio of {other[0]} Hz in a session of {job.rate}: the host converts it in its own way")
    return found


def digest(job: Job, sources: Sources, paths: dict[str, str], kind: str) -> str:
    """A digest of everything that goes into a file: settings, plugin files, audio files, places, rate, block size."""
    made = hashlib.sha256()
    made.update(msgspec.json.encode((job.through, job.rate, job.buffer, job.samples, kind, job.sounding)))
    for use in job.uses:
        made.update(msgspec.json.encode((use.card_key(), use.setting.values)))
        made.update(repr(session_run.fingerprint(paths[use.id]) if paths[use.id] else "house").encode())
    for part in job.sounding.parts:
        file = sources.file(part)
        made.update(f"{part.file} {file.frames} {file.samplerate} {file.channels}".encode())
        file.seek(0)
        for block in file.blocks(1 << 20, dtype="float32"):
            made.update(np.ascontiguousarray(block).tobytes())
    return made.hexdigest()


def carry_out(
    job: Job, source: Path, folder: Path, kind: str = "wav", prove: bool = True,
    cancelled: Callable[[], bool] = lambda: False,
) -> Iterator[Step]:  # fmt: skip
    """Renders one job into a folder, and proves the file. What is there already and made of the same is left.

    The last step holds what was rendered, or why it was not; nothing half written lies under the file's name.
    """
    target = folder / job.file_name(kind)
    try:
        with Sources(source) as sources:
            paths = _paths(job)
            made_of = digest(job, sources, paths, kind)
            known = _known(target)
            if known is not None and known.made_of == made_of and (known.proof is not None or not prove):
                yield Step(job, "there already", 1.0, known)
                return
            _check_room(job, folder)
            half = 0.5 if prove else 1.0
            with _Chain(job, sources, paths, job.buffer) as chain:
                for share in chain.render(cancelled):
                    yield Step(job, "renders", share * half)
                result = chain.result
                rendered = Rendered(
                    job.strip.id, target.name, made_of, (result.samples - result.latency) / job.rate,
                    decibels(chain.peak()), result.latency, result.dies, result.wrong,
                )  # fmt: skip
                audio.write(target, chain.stretches(), job.rate, kind)
                if prove:
                    proving = _prove(job, sources, paths, chain, cancelled)
                    proof = None
                    for each in proving:
                        if isinstance(each, Proof):
                            proof = each
                        else:
                            yield Step(job, "proves", half + half * each)
                    rendered = msgspec.structs.replace(rendered, proof=proof)
        atomic.write(_note(target), msgspec.json.encode(rendered))
        yield Step(job, "rendered", 1.0, rendered)
    except (AudioError, RenderError, OSError) as error:
        yield Step(job, "ended", 1.0, trouble=f"{error}.".replace("..", "."))


class RenderError(Exception):
    """Why a track was not rendered, in a sentence."""


def _note(target: Path) -> Path:
    return target.with_name(target.name + ".json")


def _known(target: Path) -> Rendered | None:
    """What was rendered into a file before; None if nothing was, or it is gone."""
    try:
        return msgspec.json.decode(_note(target).read_bytes(), type=Rendered) if target.exists() else None
    except (OSError, msgspec.MsgspecError):
        return None


def _paths(job: Job) -> dict[str, str]:
    """Where each plugin lies. RenderError if one is not installed."""
    installed = session_run.installed_for(job.uses)
    found = {}
    for use in job.uses:
        path = session_run.path_of(use, installed)
        if path is None:
            raise RenderError(f"{use.label} is {session_run.not_installed(use)}")
        found[use.id] = path
    return found


def _check_room(job: Job, folder: Path) -> None:
    """RenderError if the files would not fit."""
    folder.mkdir(parents=True, exist_ok=True)
    needed = int((job.samples + TAIL_SECONDS * job.rate) * CHANNELS * 4)
    free = shutil.disk_usage(folder).free
    if free < needed + SPARE:
        raise RenderError(
            f"{folder} has room for {free >> 20} MB, {(needed + SPARE) >> 20} are needed: nothing was written"
        )


class _Chain:
    """One rendering of a job at one block size: a worker, and the file that comes out of it."""

    def __init__(self, job: Job, sources: Sources, paths: dict[str, str], buffer: int) -> None:
        self._job, self._sources, self.result = job, sources, RenderedMessage(0, 0, True)
        may = {each for use in job.uses for each in allowed(use.plugin.standard, use.plugin.identifier)}
        tail = TAIL_SECONDS if job.uses else 0.0
        self._worker = isolation.Worker(
            RenderRequest(
                job.uses, job.rate, buffer, job.samples, tail, paths, _plays(job), allowed=tuple(sorted(may))
            )
        )  # fmt: skip

    def __enter__(self) -> _Chain:
        return self

    def __exit__(self, *_: object) -> None:
        self._worker.close()

    def render(self, cancelled: Callable[[], bool]) -> Iterator[float]:
        """Renders, and tells which share is done. RenderError if a plugin ends it."""
        with (self._worker.folder / SOURCE).open("wb") as out:
            for stretch in audio.mixed(self._sources, self._job.sounding.parts, self._job.rate, self._job.samples):
                out.write(stretch.tobytes())
        if _plays(self._job):
            events(self._job).tofile(self._worker.folder / NOTES)
        loading = ""
        for message in self._worker.results(cancelled):
            if isinstance(message, isolation.Failure):
                raise RenderError(f"{loading or 'a plugin'} {message.reason}" if loading else message.reason)
            if isinstance(message, LoadingMessage):
                loading = message.name
            elif isinstance(message, PlayingMessage):
                loading = ""
                yield message.done / max(message.total, 1)
            elif isinstance(message, RenderedMessage):
                self.result = message
                return
        raise RenderError("it was stopped; nothing of it was kept")

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

    def peak(self) -> float:
        """The highest sample (linear)."""
        return max((float(np.abs(each).max()) for each in self.stretches() if len(each)), default=0.0)


def _plays(job: Job) -> bool:
    """Whether the first plugin is an instrument that plays the track's notes."""
    return bool(job.uses) and job.uses[0] is job.strip.instrument


def events(job: Job) -> NDArray[np.float64]:
    """Starts and ends of a track's notes in order (E, 4: sample, key, 1 or 0, velocity); ends come before starts."""
    rows: list[tuple[int, int, float, float]] = []
    for note in job.sounding.notes:
        begin = round(note.start * job.rate)
        end = max(round(note.end * job.rate), begin + 1)
        rows += [(begin, note.key, 1.0, note.velocity), (end, note.key, 0.0, note.velocity)]
    return np.array(sorted(rows, key=lambda row: (row[0], row[2], row[1])), np.float64).reshape(-1, 4)


def _prove(
    job: Job, sources: Sources, paths: dict[str, str], first: _Chain, cancelled: Callable[[], bool]
) -> Iterator[float | Proof]:
    """Renders the job again at another block size; if that differs, once more at the same one."""
    other = job.buffer * 2 if job.buffer < 2048 else job.buffer // 2
    with _Chain(job, sources, paths, other) as again:
        yield from again.render(cancelled)
        found = compared(first, again, job.rate)
        if found.peak_db <= ROUNDED_DB:
            verdict = "same" if found.peak_db <= SAME_DB else "rounded"
            yield msgspec.structs.replace(found, verdict=verdict, other_buffer=other)
            return
    with _Chain(job, sources, paths, job.buffer) as twice:
        yield from twice.render(cancelled)
        verdict = "random" if compared(first, twice, job.rate).peak_db > ROUNDED_DB else "different"
    yield msgspec.structs.replace(found, verdict=verdict, other_buffer=other)


def compared(one: _Chain, other: _Chain, rate: int) -> Proof:
    """What two renderings differ by; where one goes on longer, that counts as well."""
    found = Difference()
    a, b = one.sound(), other.sound()
    for first in range(0, max(len(a), len(b)), audio.BLOCK):
        found.add(*(np.array(each[first : first + audio.BLOCK]) for each in (a, b)))
    return Proof("", found.peak_db, found.rms_db, found.place / rate)
