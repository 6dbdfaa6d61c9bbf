"""The whole mix of one session against that of another: before a plan is carried out, and after.

Files are proven one by one, and shared buses by themselves; this is what is heard in the end, of all that was printed,
switched, routed and laid anew. A strip that is the same in both, with all that feeds it, is rendered once for both, so
that only what differs can be heard in what is left.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from ..core.decisions.decision import Plan
from ..core.session.computer import Host
from ..core.session.session import Session
from ..store import dawproject, scratch
from ..store.archive import ImportRefusedError
from ..store.audio import AudioError, Sources
from ..store.sounding import Sounding
from . import carrying
from .against import AS_LOUD_DB, left_of, merged, rendered_together, written
from .asked import NOTHING_ASKED, Asked
from .carrying import MIX, NothingToDoError
from .proof import Proof, verdict_of
from .render import Job, RenderError, Step, check_room, ended, obstacles, paths_of
from .rendering import Elsewhere


class Side(NamedTuple):
    """The mix of a session as a job, and the exchange file with its audio. With `alike` there is something in it that
    hosts do in their own ways (panned sends, pans by a law that is not known), and that is taken alike in the other."""

    job: Job
    source: Path
    alike: bool = False


def side(session: Session, buffer: int, saved_as: Path | None = None) -> Side:
    """The mix of a session. NothingToDoError with the reason if it cannot be rendered."""
    mains = [strip.id for strip in session.strips if strip.kind == "main"]
    if len(mains) != 1:
        raise NothingToDoError(f"{session.name} has {len(mains) or 'no'} main outputs: which is its mix is not known.")
    prepared = carrying.prepare(session, Plan(), buffer, mains, saved_as, alike=True)
    if prepared.refused:
        raise NothingToDoError(f"The mix of {session.name} cannot be rendered: {prepared.refused[0][1]}")
    (job,) = prepared.jobs
    return Side(job, prepared.source, bool(obstacles(job)))


def changed(path: Path, host: Host, buffer: int) -> Side:
    """The mix of an exchange file that a plan was written to, in the host of the session that it was made of.
    NothingToDoError with the reason if it cannot be read or rendered."""
    try:
        session = dawproject.read(path).session
    except (ImportRefusedError, OSError) as error:
        raise NothingToDoError(f"{path} cannot be read: {error}") from error
    return side(replace(session, host=host), buffer)


def prove_written(
    session: Session, buffer: int, saved_as: Path | None, target: Path, folder: Path,
    asked: Asked = NOTHING_ASKED,
) -> Iterator[Step]:  # fmt: skip
    """The same for a session, as it is without its plan, and the file that the plan was written to; what is left goes
    into the folder."""
    try:
        before, after = side(session, buffer, saved_as), changed(target, session.host, buffer)
    except NothingToDoError as error:
        yield ended(Job(MIX, -1, (), Sounding(), session.rate, buffer, round(session.length * session.rate)), error)
        return
    yield from prove(before, after, folder / f"{MIX.name} difference.wav", asked, folder)


def prove(
    before: Side, after: Side, residual: Path | None = None, asked: Asked = NOTHING_ASKED, folder: Path | None = None
) -> Iterator[Step]:  # fmt: skip
    """Renders both mixes, and takes one from the other; the last step tells what is left, or why that is not known.

    If it is more than rounding, it is written to `residual`, to be listened to, both mixes into the `folder`, and what
    differs is rendered once more as it was before: what never sounds the same twice differs from itself by as much.
    """
    job = replace(before.job, strip=MIX)
    try:
        if before.job.rate != after.job.rate:
            raise RenderError(f"one mix is at {before.job.rate} Hz, the other at {after.job.rate}")
        with Sources(before.source) as was, Sources(after.source) as now:

            def is_same(sounding: Sounding) -> bool:
                return all(was.has(part) and was.stamp(part) == now.stamp(part) for part in sounding.parts)

            job, differ = merged(before.job, after.job, is_same)
            if not differ and len(job.before) == len(before.job.before):
                yield Step(job, "compared", 1.0, compared=Proof("same", alike=before.alike))
                return
            check_room(job, residual.parent if residual is not None else scratch.folder(), prove=False)
            with rendered_together(job, was, Elsewhere(now, paths_of(after.job.all_uses)), before.job) as mix:
                for share in mix.render(asked):
                    yield Step(job, "compares", share)
                found = left_of(mix, job, residual)
                if folder is not None and not verdict_of(found.peak_db, ""):
                    found = replace(found, sides=written(mix, job.rate, folder))
            verdict = verdict_of(found.peak_db, "")
            if not verdict:
                # As far as to where most of it lies: that is enough to tell, and half of the time as a rule.
                again, _ = merged(before.job, before.job, lambda _: True, differ)
                again = replace(again, samples=min(again.samples, round((found.at + 1.0) * job.rate)))
                with rendered_together(again, was, None, before.job) as twice:
                    for share in twice.render(asked):
                        yield Step(again, "compares again", share)
                    itself = left_of(twice, job)
                verdict = "random" if itself.peak_db >= found.peak_db - AS_LOUD_DB else "different"
        yield Step(job, "compared", 1.0, compared=replace(found, verdict=verdict, alike=before.alike))
    except (AudioError, RenderError, OSError) as error:
        yield ended(job, error)
