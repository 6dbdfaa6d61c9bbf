"""Stems: what strips give to their outputs, each in a file of its own, from the beginning of the piece on.

A stem is rendered with all that feeds its strip, behind the fader and the pan. Those of all strips that lead to the
main output are together what that gets, laid side by side in any host; whether they are is proven with the files
themselves.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path

import msgspec

from ..core.session.session import Session
from ..core.session.strips import Strip
from ..store.audio import AudioError, File, Sources
from ..store.sounding import Sounding
from .asked import NOTHING_ASKED, Asked
from .proof import compared, residual_of, verdict_of
from .render import Job, RenderError, Step, ended, paths_of
from .rendering import Rendering, ends_of
from .stage import Stage, before, behind_pan
from .stretch import Added

# What an id of a strip's stem ends with: no strip of a session is called so.
OF_STEM = "/stem"


def choices(session: Session) -> list[Strip]:
    """The strips that there can be stems of: those that are heard. First those that lead to the main output, then that
    itself, of which the stem is the whole mix, then other buses and returns, last other tracks. Tracks without anything
    to play are none."""
    mains = [strip.id for strip in session.strips if strip.kind == "main"]
    heard = [
        strip for strip in session.strips
        if strip.id in mains or (strip.output is not None and strip.enabled and not strip.mute)
    ]  # fmt: skip

    def place(strip: Strip) -> int:
        return 0 if strip.output in mains else 1 if strip.id in mains else 2 if strip.kind != "track" else 3

    return sorted((strip for strip in heard if strip.kind != "track" or strip.clips), key=place)


def leading(session: Session) -> list[str]:
    """The ids of those among them that lead to the main output: their stems are together the mix."""
    mains = {strip.id for strip in session.strips if strip.kind == "main"}
    return [strip.id for strip in choices(session) if strip.output in mains]


def jobs(session: Session, ids: Sequence[str], audio_of: Mapping[str, Sounding], buffer: int) -> list[Job]:
    """The stems of some strips, in the order of the session; all last as long as the piece is played."""
    samples = _samples(session, audio_of) if ids else 0
    return [_job(session, strip, audio_of, buffer, samples) for strip in session.strips if strip.id in ids]


def is_stem(job: Job) -> bool:
    """Whether a job is a stem."""
    return job.strip.id.endswith(OF_STEM)


def _samples(session: Session, audio_of: Mapping[str, Sounding]) -> int:
    """How long the piece is played."""
    return round(max((end for each in audio_of.values() for end in ends_of(each)), default=0.0) * session.rate)


def _job(session: Session, strip: Strip, audio_of: Mapping[str, Sounding], buffer: int, samples: int) -> Job:
    sounding = audio_of.get(strip.id, Sounding())
    first, law = before(session, strip, strip.heard_uses(), audio_of), session.host.pan_law
    stem = Strip(f"{strip.id}{OF_STEM}", f"{strip.name} stem", "bus")
    own = Stage(strip, strip.heard_uses(), sounding, (behind_pan(strip, sounding, stem.id, law),), law)
    return _into(session, stem, (*first.stages, own), buffer, samples)


def _into(session: Session, strip: Strip, stages: Sequence[Stage], buffer: int, samples: int) -> Job:
    """What stages give to a strip that adds nothing."""
    timing = session.timing
    return Job(strip, -1, (), Sounding(), session.rate, buffer, samples, tuple(stages), timing=timing)


class Together(msgspec.Struct, frozen=True):
    """All stems of a session: `job` renders what the main output gets, `stems` are the jobs whose files add up to it.
    """

    job: Job
    stems: tuple[Job, ...]


def together(
    session: Session, found: Sequence[Job], audio_of: Mapping[str, Sounding], buffer: int
) -> Together | None:  # fmt: skip
    """The proof that stems are together the mix; None where some that belong to it are not among them."""
    mains = [strip for strip in session.strips if strip.kind == "main"]
    by_id = {job.strip.id: job for job in found}
    wanted = [f"{each}{OF_STEM}" for each in leading(session)]
    if len(mains) != 1 or len(wanted) < 2 or not set(wanted) <= set(by_id):
        return None
    main = msgspec.structs.replace(mains[0], name="All stems together", inserts=(), instrument=None)
    stems = tuple(by_id[each] for each in wanted)
    stages = before(session, main, (), audio_of).stages
    return Together(_into(session, main, stages, buffer, stems[0].samples), stems)


def prove(
    of: Together, files: Mapping[str, str], source: Path, folder: Path, asked: Asked = NOTHING_ASKED
) -> Iterator[Step]:
    """Renders the mix in one go, and takes all stems from it (`files` by the ids of their jobs' strips); the last step
    tells what is left, or why that is not known. What is left lies in the folder, to be listened to."""
    job = of.job
    try:
        missing = [stem.name for stem in of.stems if stem.strip.id not in files]
        if missing:
            raise RenderError(f"{missing[0]} was not rendered, so they cannot be taken together")
        with (
            Sources(source) as sources, ExitStack() as opened,
            Rendering(
                job.stages, sources, paths_of(job.all_uses), job.rate, job.buffer, job.samples, job.timing
            ) as mix,
        ):  # fmt: skip
            for share in mix.render(asked):
                yield Step(job, "compares", share)
            stems = [opened.enter_context(File(folder / files[stem.strip.id])) for stem in of.stems]
            found = compared(mix.sound(), Added(*stems), job.rate, residual_of(folder / job.file_name("wav")))
        proof = msgspec.structs.replace(found, verdict=verdict_of(found.peak_db, "different"))
        yield Step(job, "compared", 1.0, compared=proof)
    except (AudioError, RenderError, OSError) as error:
        yield ended(job, error)
