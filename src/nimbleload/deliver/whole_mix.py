"""The whole mix of one session against that of another: before a plan is carried out, and after.

Files are proven one by one, and shared buses by themselves; this is what is heard in the end, of all that was printed,
switched, routed and laid anew. A strip that is the same in both, with all that feeds it, is rendered once for both, so
that only what differs can be heard in what is left.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from ..core.decisions.decision import Plan
from ..core.session.computer import Host
from ..core.session.session import Session
from ..core.session.strips import Strip
from ..store import dawproject, scratch
from ..store.archive import ImportRefusedError
from ..store.audio import CHANNELS, AudioError, Sources
from ..store.sounding import Sounding
from . import carrying
from .carrying import NothingToDoError
from .render import Job, Proof, RenderError, Step, check_room, compared, ended, paths_of, verdict_of
from .rendering import Elsewhere, Rendering
from .stage import Feed, Stage

MIX = Strip("mix", "Mix before and after", "main")
# What the ids of strips begin with that are only in the second mix, or not the same there.
AFTER = "after/"
# What two renderings of the same differ by on average may be so much less (dB) than what is found, and explains it.
AS_LOUD_DB = 3.0


class Side(NamedTuple):
    """The mix of a session as a job, and the exchange file with its audio."""

    job: Job
    source: Path


def side(session: Session, buffer: int, saved_as: Path | None = None) -> Side:
    """The mix of a session. NothingToDoError with the reason if it cannot be rendered truthfully."""
    mains = [strip.id for strip in session.strips if strip.kind == "main"]
    if len(mains) != 1:
        raise NothingToDoError(f"{session.name} has {len(mains) or 'no'} main outputs: which is its mix is not known.")
    prepared = carrying.prepare(session, Plan(), buffer, mains, saved_as)
    if prepared.refused:
        raise NothingToDoError(f"The mix of {session.name} cannot be rendered: {prepared.refused[0][1]}")
    return Side(prepared.jobs[0], prepared.source)


def changed(path: Path, host: Host, buffer: int) -> Side:
    """The mix of an exchange file that a plan was written to, in the host of the session that it was made of.
    NothingToDoError with the reason if it cannot be read or rendered."""
    try:
        session = dawproject.read(path).session
    except (ImportRefusedError, OSError) as error:
        raise NothingToDoError(f"{path} cannot be read: {error}") from error
    return side(replace(session, host=host), buffer)


def merged(
    before: Job, after: Job, is_same: Callable[[Sounding], bool], apart: Collection[str] = ()
) -> tuple[Job, frozenset[str]]:
    """Both mixes in one rendering, at whose end the second is taken from the first; and which strips of the first (ids)
    are not the same in the second.

    A strip of the second is the same if it is made of the same plugins, plays the same audio as far as `is_same` can
    tell, and is fed alike by strips of which that is true as well; those that are to be kept `apart` never are.
    """
    known = {stage.strip.id: stage for stage in before.before}
    into, into_after = _feeders(before.before), _feeders(after.before)
    shared: set[str] = set()
    for stage in after.before:
        own = stage.strip.id
        if (
            own in known and own not in apart and _made_of(known[own]) == _made_of(stage) and is_same(stage.sounding)
            and into[own] == into_after[own] and shared.issuperset(each for each, _ in into[own])
        ):  # fmt: skip
            shared.add(own)

    def later(stage: Stage) -> tuple[Feed, ...]:
        """Where a strip of the second mix leads to, but for what it feeds in the first as well."""
        return tuple(
            replace(feed, target=MIX.id, gain=-feed.gain) if feed.target == after.strip.id
            else replace(feed, target=AFTER + feed.target)
            for feed in stage.feeds if feed.target not in shared
        )  # fmt: skip

    both = {stage.strip.id: later(stage) for stage in after.before}
    stages = [
        replace(stage, feeds=(*_into_mix(stage, before), *(both[each] if each in shared else ())))
        for each, stage in known.items()
    ]
    stages += [
        replace(stage, strip=replace(stage.strip, id=AFTER + each), feeds=both[each])
        for stage in after.before if (each := stage.strip.id) not in shared
    ]  # fmt: skip
    job = replace(before, strip=MIX, before=tuple(stages), samples=max(before.samples, after.samples))
    return job, frozenset(known) - shared


def _made_of(stage: Stage) -> tuple[object, ...]:
    """What comes out of a strip goes by that, and by what is fed to it."""
    uses = tuple((use.card_key(), use.sidechain) for use in stage.uses)
    return uses, stage.sounding, stage.law, stage.plays_notes


def _feeders(stages: Sequence[Stage]) -> dict[str, Counter[tuple[str, Feed]]]:
    """By whom each strip is fed, and how."""
    found: dict[str, Counter[tuple[str, Feed]]] = {stage.strip.id: Counter() for stage in stages}
    for stage in stages:
        for feed in stage.feeds:
            if feed.target in found:
                found[feed.target][stage.strip.id, feed] += 1
    return found


def _into_mix(stage: Stage, before: Job) -> tuple[Feed, ...]:
    return tuple(replace(feed, target=MIX.id) if feed.target == before.strip.id else feed for feed in stage.feeds)


def prove_written(
    session: Session, buffer: int, saved_as: Path | None, target: Path, folder: Path,
    cancelled: Callable[[], bool] = lambda: False,
) -> Iterator[Step]:  # fmt: skip
    """The same for a session, as it is without its plan, and the file that the plan was written to; what is left goes
    into the folder."""
    try:
        before, after = side(session, buffer, saved_as), changed(target, session.host, buffer)
    except NothingToDoError as error:
        yield ended(Job(MIX, -1, (), Sounding(), session.rate, buffer, round(session.length * session.rate)), error)
        return
    yield from prove(before, after, folder / f"{MIX.name} difference.wav", cancelled)


def prove(
    before: Side, after: Side, residual: Path | None = None, cancelled: Callable[[], bool] = lambda: False
) -> Iterator[Step]:  # fmt: skip
    """Renders both mixes, and takes one from the other; the last step tells what is left, or why that is not known.

    If it is more than rounding, it is written to `residual`, to be listened to, and what differs is rendered once more
    as it was before: what never sounds the same twice differs from itself by as much.
    """
    job = replace(before.job, strip=MIX)
    try:
        if before.job.rate != after.job.rate:
            raise RenderError(f"one mix is at {before.job.rate} Hz, the other at {after.job.rate}")
        with Sources(before.source) as was, Sources(after.source) as now:

            def is_same(sounding: Sounding) -> bool:
                return all(was.has(part) and was.stamp(part) == now.stamp(part) for part in sounding.parts)

            job, differ = merged(before.job, after.job, is_same)
            check_room(job, residual.parent if residual is not None else scratch.folder(), prove=False)
            with _rendering(job, was, Elsewhere(now, paths_of(after.job.all_uses)), before.job) as mix:
                for share in mix.render(cancelled):
                    yield Step(job, "compares", share)
                found = _left_of(mix, job, residual)
            verdict = verdict_of(found.peak_db, "")
            if not verdict:
                again, _ = merged(before.job, before.job, lambda _: True, differ)
                with _rendering(again, was, None, before.job) as twice:
                    for share in twice.render(cancelled):
                        yield Step(job, "compares again", share)
                    itself = _left_of(twice, job)
                verdict = "random" if itself.rms_db >= found.rms_db - AS_LOUD_DB else "different"
        yield Step(job, "compared", 1.0, compared=replace(found, verdict=verdict))
    except (AudioError, RenderError, OSError) as error:
        yield ended(job, error)


def _rendering(job: Job, was: Sources, now: Elsewhere | None, before: Job) -> Rendering:
    """A rendering of both mixes; the strips of the second find their audio and their plugins elsewhere."""
    second = {each.strip.id: now for each in job.before if now is not None and each.strip.id.startswith(AFTER)}
    return Rendering(
        job.stages, was, paths_of(before.all_uses), job.rate, job.buffer, job.samples, job.timing, second
    )  # fmt: skip


def _left_of(mix: Rendering, job: Job, residual: Path | None = None) -> Proof:
    """What is left of the first mix."""
    return compared(mix.sound(), np.zeros((0, CHANNELS), np.float32), job.rate, residual)
