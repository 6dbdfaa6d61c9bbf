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
from ..store import dawproject
from ..store.archive import ImportRefusedError
from ..store.audio import AudioError, Sources
from ..store.sounding import Sounding
from . import carrying
from .against import NOTHING_KEPT, Kept, against
from .asked import NOTHING_ASKED, Asked
from .carrying import MIX, NothingToDoError
from .render import Job, RenderError, Step, ended, obstacles


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
    """The same for a session, as it is without its plan, and the file that the plan was written to; what is to be
    listened to goes into the folder."""
    try:
        before, after = side(session, buffer, saved_as), changed(target, session.host, buffer)
    except NothingToDoError as error:
        yield ended(Job(MIX, -1, (), Sounding(), session.rate, buffer, round(session.length * session.rate)), error)
        return
    sides = folder / "Mix before.wav", folder / "Mix after.wav"
    yield from prove(before, after, Kept(folder / f"{MIX.name} difference.wav", sides), asked)


def prove(
    before: Side, after: Side, kept: Kept = NOTHING_KEPT, asked: Asked = NOTHING_ASKED
) -> Iterator[Step]:  # fmt: skip
    """Renders both mixes, and takes one from the other (see `against`); the last step tells what is left, or why that
    is not known."""
    job = replace(before.job, strip=MIX)
    try:
        if before.job.rate != after.job.rate:
            raise RenderError(f"one mix is at {before.job.rate} Hz, the other at {after.job.rate}")
        with Sources(before.source) as was, Sources(after.source) as now:
            for step in against(before.job, after.job, MIX, was, now, kept, asked):
                proof = step.compared
                yield step if proof is None else replace(step, compared=replace(proof, alike=before.alike))
    except (AudioError, RenderError, OSError) as error:
        yield ended(job, error)
