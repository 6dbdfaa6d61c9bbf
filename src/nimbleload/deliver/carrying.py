"""Carries a plan out: all its jobs, several at once, and then the changed session."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path
from queue import SimpleQueue
from typing import NamedTuple

from ..core.decisions.decision import Plan
from ..core.session.session import Session
from ..store import dawproject
from ..store.archive import ImportRefusedError
from ..store.dawproject import Sounding
from . import render
from .render import Job, Step

SUFFIX = ".dawproject"


class Prepared(NamedTuple):
    """What there is to do: `jobs` that can be rendered, and why others cannot (by the track's name)."""

    source: Path
    jobs: list[Job]
    refused: list[tuple[str, str]]


class NothingToDoError(Exception):
    """Why a plan cannot be carried out, in a sentence."""


def prepare(session: Session, plan: Plan, buffer: int) -> Prepared:
    """The jobs of a plan. NothingToDoError if the session does not come from an exchange file that can be read."""
    if not session.source or not session.source.endswith(SUFFIX):
        raise NothingToDoError(
            "This session does not come from an exchange file: its audio is not known, so nothing can be rendered."
        )
    source = Path(session.source)
    try:
        audio_of = dawproject.read(source).audio
    except ImportRefusedError as error:
        raise NothingToDoError(f"The exchange file that this session comes from cannot be read: {error}") from error
    except OSError as error:
        raise NothingToDoError(f"{source} cannot be read: {error.strerror or error}.") from error
    known: dict[str, Sounding] = audio_of
    able, refused = [], []
    for job in render.jobs(session, plan, known, buffer):
        reasons = render.obstacles(job)
        if reasons:
            refused.append((job.name, f"{'; '.join(reasons)}."))
        else:
            able.append(job)
    return Prepared(source, able, refused)


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
    cancelled: Callable[[], bool] = lambda: False, jobs: Sequence[Job] | None = None,
) -> Iterator[Step]:  # fmt: skip
    """Carries out jobs (all of them, if none are named), as many at once as there are cores; tells every step."""
    todo = list(prepared.jobs if jobs is None else jobs)
    told: SimpleQueue[Step | None] = SimpleQueue()

    def work(job: Job) -> None:
        try:
            for step in render.carry_out(job, prepared.source, folder, kind, prove, cancelled):
                told.put(step)
        except Exception as error:
            told.put(Step(job, "ended", 1.0, trouble=f"{error}."))
        finally:
            told.put(None)

    left = len(todo)
    with ThreadPoolExecutor(max(min(len(os.sched_getaffinity(0)), left), 1), "render") as pool:
        for job in todo:
            pool.submit(work, job)
        while left:
            step = told.get()
            if step is None:
                left -= 1
            else:
                yield step
