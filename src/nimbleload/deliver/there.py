"""What earlier renderings left in a folder, and whether jobs would make the same now: told without reading any audio.

What a file was made of is known by a digest (`render.digest`), for which all audio is read. Beside it lies one of how
that looked from outside: settings, plugin files, and of audio files size and time, or in an archive their checksum. As
long as that is the same, so is the file; if it is not, rendering finds out.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from ..core.decisions.decision import Plan
from ..core.session.session import Session
from ..probe import session_run
from ..store.archive import ImportRefusedError
from ..store.audio import FORMATS, AudioError, Sources
from .carrying import NothingToDoError, folder_of, prepare
from .render import Found, Job, Rendered, as_it_was_made, lying, note_of, paths_of, seen
from .rendering import RenderError


class There(NamedTuple):
    """What lies in a folder, by the ids of strips: `rendered` what would come out the same now, `older` when a file was
    made of which that is not so, or not known."""

    rendered: dict[str, Rendered]
    older: dict[str, datetime]


NOTHING = There({}, {})


def there(jobs: Sequence[Job], source: Path, folder: Path, kind: str) -> There:
    """What lies in a folder of these jobs' files, proven and of a kind. What cannot be read there counts as nothing."""
    found = There({}, {})
    known = [(job, each) for job in jobs for each in lying(job, folder, kind) if each.proof is not None]
    if not known:
        return found
    installed = session_run.installed_for([use for job, _ in known for use in job.all_uses])
    try:
        with Sources(source) as sources:
            for job, each in known:
                if each.seen == _seen(as_it_was_made(job, each), sources, installed, kind):
                    found.rendered.setdefault(job.strip.id, each)
                elif job.strip.id not in found.rendered:
                    made = note_of(folder / each.file).stat().st_mtime
                    found.older[job.strip.id] = datetime.fromtimestamp(made)
    except (ImportRefusedError, OSError):
        return NOTHING
    return found


def files_of(
    session: Session, plan: Plan, buffer: int, saved_as: Path | None = None, folder: Path | None = None
) -> dict[str, tuple[str, float]]:
    """What frozen and bounced tracks of a plan play by now (by id of strip): a file, and the second of the piece at
    which it begins. Only what would come out the same now; what lies in the folder into which plans are carried out, or
    in another. Nothing where that cannot be found out."""
    if not any(decision.kind in ("freeze", "bounce") for decision in plan.decisions):
        return {}
    try:
        prepared = prepare(session, plan, buffer, (), saved_as)
    except NothingToDoError:
        return {}
    folder, found = folder or folder_of(prepared.beside), dict[str, tuple[str, float]]()
    whole = [job for job in prepared.jobs if job.stretch is None]
    for kind in FORMATS if folder.is_dir() else ():
        for strip, each in there(whole, prepared.source, folder, kind).rendered.items():
            found.setdefault(strip, (str(folder / each.file), each.start))
    return found


def _seen(job: Job, sources: Sources, installed: Found, kind: str) -> str:
    """How what a job would be made of looks from outside; empty where some of it is missing."""
    try:
        return seen(job, sources, paths_of(job.all_uses, installed), kind)
    except (AudioError, RenderError):
        return ""
