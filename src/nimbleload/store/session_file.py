"""The session file: a ZIP with JSON inside, holding what the exchange format cannot say (docs/session-file.md)."""

from __future__ import annotations

import io
import os
import zipfile
import zlib
from pathlib import Path
from typing import Any

import msgspec

from ..core.cards.card import CostCard
from ..core.decisions.decision import KeptPlan, Plan
from ..core.session.computer import Machine
from ..core.session.session import Session
from ..core.session.strips import Clip, Strip
from ..core.units import said_by
from ..native.decoding import decoded
from . import atomic
from .limits import impossible
from .measured_on import seen_here, this_machine
from .moved import lies_at
from .xml_values import shown

SUFFIX = ".nimbleload"
FORMAT_NAME = "nimble-load-session"
FORMAT_VERSION = 1
LARGEST_ENTRY = 2 << 30


class Saved(msgspec.Struct, frozen=True):
    """Everything a session file holds. `machine` is the computer the load was last computed for.

    `kept` are plans that were put by.
    """

    session: Session
    plan: Plan = Plan()
    cards: tuple[CostCard, ...] = ()
    machine: Machine = Machine()
    buffer: int = 256
    kept: tuple[KeptPlan, ...] = ()


class Manifest(msgspec.Struct, frozen=True):
    """What a session file says it is."""

    format: str
    version: int


class View(msgspec.Struct, frozen=True):
    """How the session was last looked at, the plans that were put by, and on which computer that was: what was measured
    was measured there."""

    machine: Machine = Machine()
    buffer: int = 256
    kept: tuple[KeptPlan, ...] = ()
    measured_on: str = ""


class SessionFileError(Exception):
    """Why a session file cannot be read or written: what, where, why."""


def write(path: Path, saved: Saved) -> None:
    """Writes a session file in one step; the version before it stays as `name.bak`. SessionFileError if it fails."""
    try:
        atomic.write(path, encode(saved), backup=True)
    except OSError as error:
        reason = said_by(error)
        kept = " The old file is as it was." if os.access(path, os.F_OK) else ""
        raise SessionFileError(f"{path} was not written: {reason}.{kept}") from error


def encode(saved: Saved) -> bytes:
    """The bytes of a session file."""
    parts = {
        "manifest.json": Manifest(FORMAT_NAME, FORMAT_VERSION),
        "session.json": saved.session,
        "plan.json": saved.plan,
        "cards.json": saved.cards,
        "view.json": View(saved.machine, saved.buffer, saved.kept, this_machine()),
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        for name, part in parts.items():
            try:
                content = msgspec.json.encode(part)
            except UnicodeEncodeError as error:
                said = f"“{shown(error.object)}” in {name} is no text in UTF-8. Nothing was written."
                raise SessionFileError(said) from error
            if len(content) > LARGEST_ENTRY:
                raise SessionFileError(
                    f"The session is too large to be kept: {name} has {len(content) >> 20} MB, at most "
                    f"{LARGEST_ENTRY >> 20} can be read again. Nothing was written."
                )
            archive.writestr(name, content)
    return out.getvalue()


def read(path: Path) -> Saved:
    """Reads a session file. SessionFileError says what is wrong with it and where."""
    try:
        with zipfile.ZipFile(path) as archive:
            manifest = _entry(archive, path, "manifest.json", Manifest)
            if manifest.format != FORMAT_NAME:
                raise SessionFileError(f"{path} is not a Nimble Load session: its manifest says {manifest.format!r}.")
            if manifest.version > FORMAT_VERSION:
                raise SessionFileError(
                    f"{path} was written by a newer version of Nimble Load (format {manifest.version}; this one reads "
                    f"up to {FORMAT_VERSION}). It was not changed."
                )
            view = _entry(archive, path, "view.json", View)
            saved = Saved(
                _entry(archive, path, "session.json", Session),
                _entry(archive, path, "plan.json", Plan),
                seen_here(_entry(archive, path, "cards.json", tuple[CostCard, ...]), view.measured_on),
                view.machine,
                view.buffer,
                view.kept,
            )
    except (zipfile.BadZipFile, NotImplementedError, ValueError) as error:
        raise SessionFileError(f"{path} is damaged or no session file: {error}.") from error
    except OSError as error:
        raise SessionFileError(f"{path} cannot be read: {said_by(error)}.") from error
    _check(saved, path)
    return msgspec.structs.replace(saved, session=_where_it_lies(saved.session, path.absolute().parent))


def _where_it_lies(session: Session, home: Path) -> Session:
    """A session that names what it was made from, and the files that its clips play, where these lie now: they may have
    been moved along with its own folder, or be named as they were seen from another one."""
    now: dict[str, str] = {}

    def moved(clip: Clip) -> Clip:
        name, part = clip.played
        # What lies in an exchange file has no place of its own.
        if not Path(name).is_absolute():
            return clip
        if name not in now:
            now[name] = lies_at(name, home)
        return clip if now[name] == name else msgspec.structs.replace(clip, file=f"{now[name]}{part}")

    strips = tuple(_with_clips(strip, tuple(moved(clip) for clip in strip.clips)) for strip in session.strips)
    source = lies_at(session.source, home) if session.source else ""
    return msgspec.structs.replace(session, strips=strips, source=source)


def _with_clips(strip: Strip, clips: tuple[Clip, ...]) -> Strip:
    return strip if clips == strip.clips else msgspec.structs.replace(strip, clips=clips)


def _entry(archive: zipfile.ZipFile, path: Path, name: str, kind: Any) -> Any:
    try:
        size = archive.getinfo(name).file_size
    except KeyError:
        raise SessionFileError(f"{path} is damaged: {name} is missing in it.") from None
    if size > LARGEST_ENTRY:
        raise SessionFileError(f"{path}: {name} claims {size >> 20} MB, more than any session needs.")
    try:
        return decoded(archive.read(name), kind)
    except (msgspec.MsgspecError, zipfile.BadZipFile, zlib.error, RuntimeError, EOFError, ValueError, OSError) as error:
        raise SessionFileError(f"{path}: {name} is not understood: {error}.") from error


def _check(saved: Saved, path: Path) -> None:
    """Numbers no session can have."""
    if not 1 <= saved.buffer <= 65536:
        raise SessionFileError(f"{path}: a buffer of {saved.buffer} samples is not possible.")
    wrong = impossible(saved)
    if wrong is not None:
        raise SessionFileError(f"{path}: {wrong}. It was not changed.")


def schema() -> dict[str, Any]:
    """The JSON schema of each part of a session file, by the part's name."""
    parts = {
        "manifest.json": Manifest,
        "session.json": Session,
        "plan.json": Plan,
        "cards.json": tuple[CostCard, ...],
        "view.json": View,
    }
    return {name: msgspec.json.schema(kind) for name, kind in parts.items()}
