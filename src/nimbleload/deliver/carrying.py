"""Carries a plan out: all its jobs, several at once, and then the changed session."""

from __future__ import annotations

import hashlib
import logging
import os
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path
from queue import SimpleQueue
from typing import NamedTuple

import msgspec
from platformdirs import user_cache_dir

from ..core.decisions.apply import obstacle
from ..core.decisions.decision import Plan
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..core.told import carrying as told
from ..core.told.newer import written_anew
from ..core.units import as_file_name, said_by
from ..store import atomic, dawproject, dawproject_out
from ..store.archive import ImportRefusedError
from ..store.dawproject_out import is_of_file
from ..store.found import NothingFoundError
from ..store.sounding import Sounding
from ..store.written_anew import is_another
from . import render, sharing, stems
from .asked import NOTHING_ASKED, Asked
from .proof import Proof
from .render import Job, Rendered, Step
from .sharing import Check
from .stems import Together

log = logging.getLogger(__name__)

SUFFIX = ".dawproject"
# What the proof of a mix stands for among all that is to be done (see `whole_mix`); no strip of a file has such an id.
MIX = Strip("mix before and after", "Mix before and after", "main")
# Decisions that are written into the changed session without anything being rendered.
WRITTEN = {"off", "share", "lighten", "suspend"}
NO_NOTES = "this session knows how much it plays, not what: only what lies in audio and MIDI files can be rendered"


class Prepared(NamedTuple):
    """What there is to do: `jobs` that can be rendered, and why others cannot (by the track's name).

    `source` is the exchange file that is read; what is written goes beside `beside`: the same file, or for a session
    that was made here the files that it was made from. `checks` are the shared buses that can be proven. With
    `is_written` there are decisions that are written into the changed session whether anything is rendered or not.
    Stems that were asked for are among the jobs; `together` is the proof that they add up, where they do.
    """

    source: Path
    jobs: list[Job]
    refused: list[tuple[str, str]]
    beside: Path
    checks: list[Check] = []  # noqa: RUF012
    is_written: bool = False
    together: Together | None = None

    @property
    def all_jobs(self) -> list[Job]:
        """All that is to be done, proofs last."""
        last = [self.together.job] if self.together is not None else []
        return [*self.jobs, *(check.job for check in self.checks), *last]


class NothingToDoError(Exception):
    """Why a plan cannot be carried out, in a sentence."""


def prepare(
    session: Session, plan: Plan, buffer: int, stems_of: Sequence[str] = (), saved_as: Path | None = None,
    alike: bool = False,
) -> Prepared:  # fmt: skip
    """The jobs of a plan, and the stems of some strips (their ids); the session is `saved_as` a file, or not yet. What
    is only compared with what is rendered `alike` may hold what hosts do in their own ways.
    NothingToDoError if it comes from no exchange file that can be read, or holds another project by now, and from no
    audio files, while something is to be rendered."""
    made_here = not session.source.endswith(SUFFIX)
    kinds = {decision.kind for decision in plan.decisions}
    needs_audio = not kinds or bool(stems_of) or bool(kinds & {"freeze", "bounce"})
    source = written_out(session, needs_audio) if made_here else Path(session.source)
    try:
        imported = dawproject.read(source)
    except ImportRefusedError as error:
        raise NothingToDoError(f"The exchange file that this session comes from cannot be read: {error}") from error
    except OSError as error:
        raise NothingToDoError(f"{source} cannot be read: {said_by(error)}.") from error
    if not made_here and is_another(session, imported.session.source_stamp):
        raise NothingToDoError(written_anew(source.name))
    known: dict[str, Sounding] = imported.audio
    able, done, refused = [], plan, []
    for decision in plan.decisions:
        if decision.stretch is None:
            continue
        # Without it there is no track for what was cut out.
        strip = session.strip(decision.strip)
        reason = obstacle(strip, decision, session)
        if reason is not None:
            done = done.without(decision)
            refused.append((strip.name, reason))
    asked = stems.jobs(session, stems_of, known, buffer)
    for job in [*render.jobs(session, done, known, buffer), *asked]:
        silent = made_here and not all(is_all_files(stage.strip) for stage in job.stages)
        reasons = [NO_NOTES] if silent else render.obstacles(job, alike)
        if reasons:
            refused.append((job.name, f"{'; '.join(reasons)}."))
        else:
            able.append(job)
    proven = []
    for check in sharing.checks(session, plan, known, buffer):
        silent = made_here and not all(is_all_files(strip) for strip in check.members)
        reasons = [NO_NOTES] if silent else sharing.obstacles(check)
        if reasons:
            refused.append((check.bus.name, f"that it sounds the same is not proven: {'; '.join(reasons)}."))
        else:
            proven.append(check)
    beside = made_of(session, saved_as) if made_here else source
    whole = stems.together(session, able, known, buffer)
    return Prepared(source, able, refused, beside, proven, bool(kinds & WRITTEN), whole)


def made_of(session: Session, saved_as: Path | None = None) -> Path:
    """What a session that was made here is called after in its files, and lies beside: the file that it is saved as,
    unless that is among its audio; else the file or folder that it was made of; then its first audio file; where it has
    none, the folder in which the program was started."""
    source = Path(session.source) if session.source else None
    if saved_as is not None and (source is None or source not in saved_as.absolute().parents):
        return saved_as
    if source is not None and source.exists():
        return source
    first = next((clip for strip in session.strips if is_all_files(strip) for clip in strip.clips), None)
    if first is None:
        return Path.cwd() / as_file_name(session.name)
    return Path(first.played[0]).parent / as_file_name(session.name)


def is_all_files(strip: Strip) -> bool:
    """Whether all that a track of a session made here plays lies in audio or MIDI files."""
    return all(
        is_of_file(clip) if clip.kind == "notes" else clip.file is not None and Path(clip.file).is_absolute()
        for clip in strip.clips
    )


def written_out(session: Session, needs_audio: bool = True) -> Path:
    """A session that was made here as an exchange file in the user's cache folder, which refers to its audio files.

    NothingToDoError if there are none, or it cannot be written.
    """
    if needs_audio and not any(strip.clips and is_all_files(strip) for strip in session.strips):
        raise NothingToDoError(
            "This session comes from no exchange file and from no audio files: its audio is not known, so nothing can "
            "be rendered."
        )
    # Notes are written into it: it is another one when their file has changed.
    played = {Path(clip.played[0]) for strip in session.strips for clip in strip.clips if is_of_file(clip)}
    changed = sorted((str(path), path.stat().st_mtime_ns) for path in played)
    digest = hashlib.sha256(msgspec.json.encode((session, changed))).hexdigest()[:16]
    target = Path(user_cache_dir("nimble-load")) / "made" / digest / f"session{SUFFIX}"
    try:
        if not target.exists():
            target.parent.mkdir(parents=True, exist_ok=True)
            with atomic.replacing(target) as half:
                dawproject_out.write(half, session)
    except OSError as error:
        raise NothingToDoError(f"{target} cannot be written: {said_by(error)}.") from error
    except NothingFoundError as error:
        raise NothingToDoError(str(error)) from error
    return target


def told_of(of: Rendered) -> list[str]:
    """What is to be known of a rendered file, in sentences: how well it was proven, and what is odd."""
    proof, said = of.proof, list[str]()
    if proof is not None:
        said.append(told.proof_words(proof.verdict, proof.peak_db, proof.at, proof.other_buffer, of.buffer))
        if proof.verdict == "random":
            said.append(told.loudness_words(of.lufs, proof.lufs))
    return [each for each in (*said, *told.warnings(of.dies, of.wrong, of.asked, of.one_sided)) if each]


def compared_words(prepared: Prepared, step: Step) -> str:
    """What a proof of several files together has found, in words."""
    proof, whole = step.compared, prepared.together
    assert proof is not None, "nothing was compared"
    what = (proof.verdict, proof.peak_db, proof.at)
    if step.job.strip.id == MIX.id:
        return mix_words(proof)
    if whole is not None and step.job.strip.id == whole.job.strip.id:
        return told.together_words(*what)
    without = next((check.without for check in prepared.checks if check.bus.id == step.job.strip.id), ())
    return told.sharing_words(*what, without) + _sides_words(proof)


def mix_words(proof: Proof) -> str:
    """What the proof of a mix has found, in words."""
    return told.mix_words(proof.verdict, proof.peak_db, proof.at, proof.alike) + _sides_words(proof)


def _sides_words(proof: Proof) -> str:
    """How loud the two are that were compared, behind a sentence; nothing where they are the same."""
    return told.sides_words(*((side.peak_db, side.lufs) for side in proof.sides)) if proof.sides else ""


def folder_of(source: Path) -> Path:
    """Where rendered files lie, if nothing else is asked for: beside the exchange file."""
    return source.with_name(f"{source.stem} carried out")


def file_of(source: Path, today: date | None = None) -> Path:
    """What the changed session is called: the original's name with the date, and a number if that is taken."""
    day = (today or date.today()).isoformat()
    found, count = source.with_name(f"{source.stem} {day}{SUFFIX}"), 1
    while found.exists():
        count += 1
        found = source.with_name(f"{source.stem} {day} {count}{SUFFIX}")
    return found


def run(
    prepared: Prepared, folder: Path, kind: str = "wav", prove: bool = True,
    asked: Asked = NOTHING_ASKED, jobs: Sequence[Job] | None = None,
    checks: Sequence[Check] | None = None, files: Mapping[str, str] | None = None,
) -> Iterator[Step]:  # fmt: skip
    """Carries out jobs and, where a proof is wanted, proves shared buses (all of them, if none are named), as many at
    once as there are cores; then all stems together, if they are there. Tells every step. `files` were rendered before,
    by the ids of strips."""
    todo = list(prepared.jobs if jobs is None else jobs)
    proven = list(prepared.checks if checks is None else checks) if prove else []
    told: SimpleQueue[Step | None] = SimpleQueue()

    def work(job: Job, steps: Iterator[Step]) -> None:
        try:
            for step in steps:
                told.put(step)
        except Exception as error:
            log.exception("%s was not carried out", job.name)
            told.put(render.ended(job, error))
        finally:
            told.put(None)

    left, there = len(todo) + len(proven), dict(files or {})
    with ThreadPoolExecutor(max(min(len(os.sched_getaffinity(0)), left), 1), "render") as pool:
        for job in todo:
            pool.submit(work, job, render.carry_out(job, prepared.source, folder, kind, prove, asked))
        for check in proven:
            pool.submit(work, check.job, sharing.prove(check, prepared.source, folder, asked))
        while left:
            step = told.get()
            if step is None:
                left -= 1
            else:
                if step.rendered is not None:
                    there[step.rendered.strip] = step.rendered.file
                yield step
    whole = prepared.together
    if prove and whole is not None and all(stem.strip.id in there for stem in whole.stems) and not asked.is_stopped():
        yield from stems.prove(whole, there, prepared.source, folder, asked)
