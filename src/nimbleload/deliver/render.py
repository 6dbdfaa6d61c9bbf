"""Carrying out a freeze or a bounce: a track, or a bus with all that feeds it, is rendered, and the file is proven.

A job renders the track's own audio through its plugins up to the place where it is cut, in blocks of the host's size,
with the tail; what comes late is moved back. Of a bus, what feeds it is rendered before. Then it is rendered again at
another block size, and what the two differ by says whether the file is the track.
"""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.decisions.decision import Plan
from ..core.decisions.rendering import last_place
from ..core.piece.moments import Span
from ..core.session.plugins import PluginUse
from ..core.session.session import Session, Timing
from ..core.session.strips import Strip
from ..core.units import clock, listed
from ..native.decoding import decoded
from ..probe import catalogue, session_run
from ..probe.messages import CHANNELS
from ..store import atomic, audio, scratch
from ..store.audio import FORMATS, AudioError, Sources
from ..store.sounding import Part, Sounding
from . import stretch
from .asked import NOTHING_ASKED, Asked
from .audible import audible
from .difference import NOTHING_DB, decibels
from .loudness import integrated
from .proof import ROUNDED_DB, Proof, compared, residual_of, verdict_of
from .rendering import SPARE, TAIL_SECONDS, RenderError, Rendering, ends_of
from .stage import Before, Stage, before, obstacles_on_the_way, unclear, ways_of_hosts

# What a search for plugins finds, by standard and identifier.
Found = Mapping[tuple[str, str], catalogue.Installed]
# A file's name has 255 bytes at most, of which what is written beside it takes some; a letter may have four.
LONGEST_NAME = 180
# What is said of a file that was rendered before, of the same.
THERE_ALREADY = "there already"
# The kind of file that holds any level.
HOLDS_ALL = "wav"


class Rendered(msgspec.Struct, frozen=True):
    """A file that a job has made. `made_of` is a digest of everything that went into it; `start` the second of the
    piece at which it begins; `lufs` how loud it is (integrated, at least −200). `asked` names the kind of file that was
    asked for and cannot hold it; empty where it can. `seen` is a digest of how everything that went into it looks from
    outside (see `there`), `size` how long the file is (bytes; 0: not known); its plugins `computed` for so many seconds
    (0: not known), in blocks of `buffer` samples (0: not known). Something is `heard` in it from when to when (seconds
    of the piece); empty where that is not known, or nothing is. Its `one_sided` plugins heard the left side alone.
    It has one of its `channels` where its track has, and both sides are the same."""

    strip: str
    file: str
    made_of: str
    seconds: float
    peak_db: float
    latency: int
    dies: bool
    wrong: int
    proof: Proof | None = None
    start: float = 0.0
    lufs: float = NOTHING_DB
    asked: str = ""
    seen: str = ""
    size: int = 0
    computed: float = 0.0
    buffer: int = 0
    heard: tuple[Span, ...] = ()
    one_sided: tuple[str, ...] = ()
    channels: int = CHANNELS


class Job(msgspec.Struct, frozen=True):
    """A track to render through the place `through` of its chain: `uses` are the plugins that are in it. `before` are
    the strips that feed it, if it is a bus, and those that side-chains hear, in order. Of a `stretch` (seconds),
    `sounding` is what lies in it, and `whole` all that the track plays. `timing` is that of the piece."""

    strip: Strip
    through: int
    uses: tuple[PluginUse, ...]
    sounding: Sounding
    rate: int
    buffer: int
    samples: int
    before: tuple[Stage, ...] = ()
    stretch: tuple[float, float] | None = None
    whole: Sounding = Sounding()
    timing: Timing = Timing()

    @property
    def stages(self) -> tuple[Stage, ...]:
        """All that is rendered, each after what feeds it; the job's own strip is the last."""
        return (*self.before, Stage(self.strip, self.uses, self.sounding))

    @property
    def all_uses(self) -> tuple[PluginUse, ...]:
        return tuple(use for stage in self.stages for use in stage.uses)

    @property
    def skipped(self) -> int:
        """How many samples of the piece lie before the file."""
        return round(self.stretch[0] * self.rate) if self.stretch is not None else 0

    @property
    def name(self) -> str:
        return self.strip.name + (f" {clock(self.stretch[0])} to {clock(self.stretch[1])}" if self.stretch else "")

    def file_name(self, kind: str) -> str:
        """What the file is called: the track's name, without what file systems mind, and as much of it as they take."""
        plain = "".join(each if each.isalnum() or each in " -_." else "-" for each in self.name).strip(" .") or "track"
        plain = plain.encode()[:LONGEST_NAME].decode(errors="ignore").rstrip(" .")
        return f"{plain} {hashlib.sha256(self.strip.id.encode()).hexdigest()[:6]}.{FORMATS[kind].ending}"


class Step(msgspec.Struct, frozen=True):
    """What a job is doing; `share` of it is done (0 … 1). `rendered`: it is through; `compared`: so is the proof of a
    shared bus; `trouble`: why it has ended."""

    job: Job
    doing: str
    share: float
    rendered: Rendered | None = None
    trouble: str = ""
    compared: Proof | None = None


def jobs(session: Session, plan: Plan, audio_of: dict[str, Sounding], buffer: int) -> list[Job]:
    """The freezes and bounces that a plan holds, of tracks and of buses with all that feeds them, in its order."""
    found = []
    for decision in plan.decisions:
        if decision.kind not in ("freeze", "bounce"):
            continue
        strip = session.strip(decision.strip)
        through = last_place(strip, decision)
        uses = tuple(use for place, use in strip.places() if place <= through and use.enabled)
        whole = sounding = audio_of.get(strip.id, Sounding())
        if decision.stretch is not None:
            sounding = stretch.inside(whole, *decision.stretch, session.rate)
        no_bus = strip.kind == "track" or decision.kind == "bounce"
        first = before(session, strip, uses, audio_of) if no_bus else Before()
        own = (stage.sounding for stage in first.stages if stage.strip.id in first.fed)
        ends = [end for each in (sounding, *own) for end in ends_of(each)]
        samples = round(max(ends, default=0.0) * session.rate)
        found.append(Job(
            strip, through, uses, sounding, session.rate, buffer, samples, first.stages, decision.stretch, whole,
            session.timing,
        ))  # fmt: skip
    return found


def obstacles(job: Job, alike: bool = False) -> list[str]:
    """Why a job cannot be rendered truthfully, in sentences; empty if it can. With `alike` it is for a comparison in
    which both sides take it alike what hosts do in their own ways."""
    names: dict[str, list[str]] = {}
    for stage in job.before:
        is_empty = stage.strip.kind == "track" and not stage.strip.clips
        own = automated(stage.uses, stage.sounding) if is_empty else own_obstacles(
            stage.strip, stage.uses, stage.sounding, job.rate
        )  # fmt: skip
        reasons = (*own, *obstacles_on_the_way(stage), *(() if alike else ways_of_hosts(stage)))
        for reason in reasons:
            names.setdefault(reason, []).append(stage.strip.name)
    inside = [f"{listed(strips)}: {reason}" for reason, strips in names.items()]
    if job.before and job.strip.kind != "track":
        if job.sounding.parts or job.sounding.notes:
            inside.append("it holds clips of its own beside what feeds it")
        return inside + automated(job.uses, job.sounding)
    if job.strip.kind != "track":
        return ["it is no track with audio of its own: a bounce prints a bus with all that feeds it"]
    found = own_obstacles(job.strip, job.uses, job.sounding, job.rate) + inside
    if job.stretch is not None:
        found += stretch.obstacles(job.whole, *job.stretch)
        if job.strip.rides:
            found.append("its fader is automated, and a track of its own would not have that")
    return found


def automated(uses: Sequence[PluginUse], sounding: Sounding) -> list[str]:
    """Why plugins that are automated cannot be rendered truthfully, in sentences; empty if they can."""
    moved = {each.use for each in sounding.moving}
    found = unclear(sounding, [use.id for use in uses])
    found += [
        f"{use.label} is automated, and house processors take their settings only as they start"
        for use in uses if use.plugin.standard == "house" and use.id in moved
    ]  # fmt: skip
    return found


def own_obstacles(strip: Strip, uses: Sequence[PluginUse], sounding: Sounding, rate: int) -> list[str]:
    """Why what a strip plays through these plugins cannot be rendered truthfully. A bus, or a track that plays nothing,
    plays silence."""
    found = []
    if strip.instrument is not None and sounding.notes:
        if sounding.parts:
            found.append("notes and audio lie on it together: how the host mixes them is not known")
    elif strip.instrument is not None:
        found.append("no notes of its instrument are known: the session does not come from a file with notes")
    elif strip.kind == "track" and not sounding.parts:
        found.append("no audio of it is known: the session does not come from an exchange file with audio")
    found += automated(uses, sounding)
    if sounding.curves:
        found.append(
            "its clips hold curves of their own that are not followed: formants of single notes, or what else they do "
            "in a unit that depends on the plugin, controllers in such a unit, or both on one channel and on all"
        )
    stretched = sum(part.stretched for part in sounding.parts)
    if stretched:
        found.append(f"{stretched} of its clips are stretched: the host plays them in its own way")
    other = sorted({part.rate for part in sounding.parts if part.rate not in (0, rate)})
    if other:
        found.append(f"it plays audio of {other[0]} Hz in a session of {rate}: the host converts it in its own way")
    return found


def digest(job: Job, sources: Sources, paths: dict[str, str], kind: str) -> str:
    """A digest of everything that goes into a file: settings, plugin files, audio files, places, rate, block size."""
    made = _settings(job, paths, kind)
    for part in _parts(job):
        file = sources.file(part)
        made.update(f"{part.file} {file.frames} {file.samplerate} {file.channels}".encode())
        file.seek(0)
        for block in file.blocks(1 << 20, dtype="float32"):
            made.update(np.ascontiguousarray(block).tobytes())
    return made.hexdigest()


def seen(job: Job, sources: Sources, paths: dict[str, str], kind: str) -> str:
    """A digest of the same from outside: no audio is read. AudioError if a file is not there."""
    made = _settings(job, paths, kind)
    for part in _parts(job):
        made.update(f"{part.file} {sources.stamp(part)}".encode())
    return made.hexdigest()


def _parts(job: Job) -> Iterator[Part]:
    return (part for stage in job.stages for part in stage.sounding.parts)


def _settings(job: Job, paths: dict[str, str], kind: str) -> hashlib._Hash:
    """A digest of all that goes into a file but the audio."""
    made = hashlib.sha256()
    made.update(msgspec.json.encode((job.through, job.rate, job.buffer, job.samples, kind, job.sounding, job.timing)))
    if job.stretch is not None:
        made.update(msgspec.json.encode((job.stretch, job.whole)))
    for stage in job.before:
        places = [use.id for use in stage.uses]
        made.update(msgspec.json.encode((stage.strip.id, stage.feeds, stage.sounding, places)))
    for use in job.all_uses:
        made.update(msgspec.json.encode((use.card_key(), use.setting.values)))
        made.update(repr(session_run.fingerprint(paths[use.id]) if paths[use.id] else "house").encode())
    return made


def carry_out(
    job: Job, source: Path, folder: Path, kind: str = "wav", prove: bool = True,
    asked: Asked = NOTHING_ASKED,
) -> Iterator[Step]:  # fmt: skip
    """Renders one job into a folder, and proves the file. What is there already and made of the same is left.

    The last step holds what was rendered, or why it was not; nothing half written lies under the file's name.
    """
    try:
        with Sources(source) as sources:
            paths = paths_of(job.all_uses)
            looks = seen(job, sources, paths, kind)
            # All audio is read for it: once for each size of blocks that is asked about.
            made_in = cache(lambda buffer: digest(msgspec.structs.replace(job, buffer=buffer), sources, paths, kind))
            for known in lying(job, folder, kind):
                as_made = as_it_was_made(job, known)
                if known.made_of == made_in(as_made.buffer) and (known.proof is not None or not prove):
                    yield Step(job, THERE_ALREADY, 1.0, _seen_as(known, seen(as_made, sources, paths, kind), folder))
                    return
            made_of = made_in(job.buffer)
            check_room(job, folder, prove)
            half = 0.5 if prove else 1.0
            with Rendering(job.stages, sources, paths, job.rate, job.buffer, job.samples, job.timing) as chain:
                for share in chain.render(asked):
                    yield Step(job, "renders", share * half)
                rendered = _printed(job, chain, folder, kind, made_of)
                target = folder / rendered.file
                if prove:
                    proving = _prove(job, sources, paths, chain, target, asked)
                    proof = None
                    for each in proving:
                        if isinstance(each, Proof):
                            proof = each
                        else:
                            yield Step(job, "proves", half + half * each)
                    rendered = msgspec.structs.replace(rendered, proof=proof)
        rendered = msgspec.structs.replace(rendered, seen=looks, size=target.stat().st_size)
        atomic.write(note_of(target), msgspec.json.encode(rendered))
        yield Step(job, "rendered", 1.0, rendered)
    except (AudioError, RenderError, OSError) as error:
        yield ended(job, error)


def ended(job: Job, error: Exception) -> Step:
    """The last step of a job that something has ended."""
    return Step(job, "ended", 1.0, trouble=f"{error}.".replace("..", "."))


def _printed(job: Job, chain: Rendering, folder: Path, kind: str, made_of: str) -> Rendered:
    """Writes what was rendered. What is louder than full scale goes into a file that can hold it, whatever was asked
    for: it would be clipped."""
    result, (peak, spans, is_mono) = chain.result, audible(chain.stretches(), job.rate)
    channels = 1 if job.strip.channels == 1 and is_mono else CHANNELS
    used, start = HOLDS_ALL if peak >= 1.0 else kind, job.skipped / job.rate
    target = folder / job.file_name(used)
    sound = (stretch[:, :channels] for stretch in audio.later(chain.stretches(), job.skipped))
    audio.write(target, sound, job.rate, used, channels=channels, start=job.skipped)
    with audio.File(target) as file:
        loud = loudness_of(file.stretches(), job.rate)
    return Rendered(
        job.strip.id, target.name, made_of, max(result.samples - result.latency - job.skipped, 0) / job.rate,
        decibels(peak), result.latency, result.dies, result.wrong, start=start, lufs=loud,
        asked=kind if used != kind else "", computed=chain.computed, buffer=job.buffer,
        heard=tuple((max(first, start), end) for first, end in spans if end > start),
        one_sided=tuple(dict.fromkeys(chain.one_sided)), channels=channels,
    )  # fmt: skip


def loudness_of(stretches: Iterator[NDArray[np.float32]], rate: int) -> float:
    """How loud a sound is (integrated, LUFS); silence as `decibels` has it."""
    return max(integrated(stretches, rate), NOTHING_DB)


def note_of(target: Path) -> Path:
    """Where it is written down what a file was made of."""
    return target.with_name(target.name + ".json")


def lying(job: Job, folder: Path, kind: str) -> list[Rendered]:
    """What a job has rendered into a folder before: of the kind that is asked for, or of that which holds any level."""
    names = dict.fromkeys(job.file_name(each) for each in (kind, HOLDS_ALL))
    found = [_known(folder / name) for name in names]
    return [each for each in found if each is not None]


def as_it_was_made(job: Job, known: Rendered) -> Job:
    """A job at the block size of a file that lies there, if that was proven to be the same at another one: it is what
    the job would make, whatever size blocks have by now. Else the job itself."""
    stands = known.buffer not in (0, job.buffer) and known.proof is not None and known.proof.verdict == "same"
    return msgspec.structs.replace(job, buffer=known.buffer) if stands else job


def _seen_as(known: Rendered, looks: str, folder: Path) -> Rendered:
    """What lies there, with how what went into it looks from outside by now; kept in its note."""
    if known.seen == looks:
        return known
    found = msgspec.structs.replace(known, seen=looks)
    atomic.write(note_of(folder / known.file), msgspec.json.encode(found))
    return found


def _known(target: Path) -> Rendered | None:
    """What was rendered into a file before; None if nothing was, it is gone, or it is not as long as it was."""
    try:
        size = target.stat().st_size
        known = decoded(note_of(target).read_bytes(), Rendered)
    except (OSError, msgspec.MsgspecError):
        return None
    return known if known.size in (0, size) else None


def paths_of(uses: Sequence[PluginUse], installed: Found | None = None) -> dict[str, str]:
    """Where each plugin lies, by use; `installed` is what a search has found already. RenderError if one is not there.
    """
    installed = session_run.installed_for(uses) if installed is None else installed
    found = {}
    for use in uses:
        path = session_run.path_of(use, installed)
        if path is None:
            raise RenderError(f"{use.label} is {session_run.not_installed(use)}")
        found[use.id] = path
    return found


def _disk(place: Path) -> int:
    """Which disk a folder lies on."""
    return place.stat().st_dev


def _sums_at_once(stages: Sequence[Stage]) -> int:
    """How many files lie there at most in which comes together what feeds strips still to be rendered."""
    lying, most = set[tuple[str, str]](), 0
    for stage in stages:
        lying -= {(stage.strip.id, use) for use in ("", *(use.id for use in stage.uses))}
        lying |= {(feed.target, feed.use) for feed in stage.feeds}
        most = max(most, len(lying))
    return most


def check_room(job: Job, folder: Path, prove: bool) -> None:
    """RenderError if the files would not fit: the one that stays, and those that are needed meanwhile."""
    folder.mkdir(parents=True, exist_ok=True)
    file = int((job.samples + TAIL_SECONDS * job.rate) * CHANNELS * 4)
    # What goes in, what comes out, and what comes together before a bus and before those that feed it; the file that
    # stays is proven against one more of them, a stretch against two.
    each = 2 + _sums_at_once(job.before)
    meanwhile = each * (1 if not prove else 2 if job.stretch is None else 3)
    needed: dict[int, tuple[Path, int]] = {}
    for place, files in ((folder, 1), (scratch.folder(), meanwhile)):
        device = _disk(place)
        there, before = needed.get(device, (place, 0))
        needed[device] = (there, before + files)
    for place, files in needed.values():
        free = shutil.disk_usage(place).free
        if free < files * file + SPARE:
            raise RenderError(
                f"{place} has room for {free >> 20} MB, {(files * file + SPARE) >> 20} are needed: nothing was written"
            )


def _prove(
    job: Job, sources: Sources, paths: dict[str, str], first: Rendering, target: Path, asked: Asked
) -> Iterator[float | Proof]:
    """Renders the job again at another block size, and takes the file from that; if they differ, once more at the same
    one. If not, a stretch is compared with its track (see `_with_the_rest`).

    What differs is written beside the file, to be listened to.
    """
    residual = residual_of(target)
    other = other_buffer(job.buffer)
    with (
        Rendering(job.stages, sources, paths, job.rate, other, job.samples, job.timing) as again,
        audio.File(target) as file,
    ):
        yield from again.render(asked)
        found = compared(file, again.sound()[job.skipped :], job.rate, residual)
        loud = loudness_of(audio.later(again.stretches(), job.skipped), job.rate)
        found = msgspec.structs.replace(found, at=found.at + job.skipped / job.rate, lufs=loud)
    verdict = verdict_of(found.peak_db, "")
    if verdict:
        proof = msgspec.structs.replace(found, verdict=verdict, other_buffer=other)
        if job.stretch is None:
            yield proof
        else:
            yield from _with_the_rest(proof, job, sources, paths, first, residual, asked)
        return
    with Rendering(job.stages, sources, paths, job.rate, job.buffer, job.samples, job.timing) as twice:
        yield from twice.render(asked)
        verdict = "random" if compared(first.sound(), twice.sound(), job.rate).peak_db > ROUNDED_DB else "different"
    yield msgspec.structs.replace(found, verdict=verdict, other_buffer=other)


def _with_the_rest(
    proof: Proof, job: Job, sources: Sources, paths: dict[str, str], printed: Rendering, residual: Path,
    asked: Asked,
) -> Iterator[float | Proof]:  # fmt: skip
    """The proof of a stretch, and whether it and what is left of its track are together what the track was. They are
    not where plugins ring on over an edge and are not linear, or sound by the clock."""
    assert job.stretch is not None
    samples = round(max(ends_of(job.whole), default=0.0) * job.rate)
    soundings = (job.whole, stretch.outside(job.whole, *job.stretch, job.rate))
    how = (sources, paths, job.rate, job.buffer, samples, job.timing)
    ways = [Rendering((*job.before, Stage(job.strip, job.uses, each)), *how) for each in soundings]
    with ways[0] as whole, ways[1] as left:
        for way in ways:
            yield from way.render(asked)
        both = stretch.Added(left.sound(), printed.sound())
        found = compared(whole.sound(), both, job.rate, residual)
    if verdict_of(found.peak_db, "cut") == "cut":
        yield msgspec.structs.replace(found, verdict="cut")
    else:
        yield msgspec.structs.replace(proof, peak_db=max(proof.peak_db, found.peak_db))


def other_buffer(buffer: int) -> int:
    """The block size in which a file is proven that was rendered in another."""
    return buffer * 2 if buffer < 2048 else buffer // 2


