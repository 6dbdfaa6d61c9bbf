"""Unsaved work survives a crash: a copy of the session lies in the user's state folder while the program runs."""

from __future__ import annotations

import contextlib
import os
import uuid
from pathlib import Path

import msgspec
import platformdirs

from ..native.decoding import decoded
from . import atomic
from .session_file import SUFFIX, Saved, SessionFileError, encode, read


class Note(msgspec.Struct, frozen=True):
    """What is known of a recovery copy: which process wrote it (with its start time), and for which file."""

    pid: int
    started: str
    original: str | None


class Left(msgspec.Struct, frozen=True):
    """A copy that a run before left behind."""

    copy: Path
    original: Path | None


def folder() -> Path:
    return Path(platformdirs.user_state_dir("nimble-load")) / "recovery"


class Recovery:
    """The recovery copy of one running window."""

    def __init__(self, where: Path | None = None) -> None:
        self._folder = where or folder()
        self._copy = self._folder / f"{os.getpid()}-{uuid.uuid4().hex[:8]}{SUFFIX}"

    def keep(self, saved: Saved, original: Path | None) -> None:
        """Writes the copy in one step. OSError if that fails."""
        self._folder.mkdir(parents=True, exist_ok=True)
        note = Note(os.getpid(), started(os.getpid()), str(original) if original else None)
        atomic.write(self._copy.with_suffix(".json"), msgspec.json.encode(note))
        atomic.write(self._copy, encode(saved))

    def forget(self) -> None:
        """Removes the copy: the work is saved, or was given up."""
        discard(Left(self._copy, None))


def started(pid: int) -> str:
    """When a process started, in the kernel's ticks; empty if there is no such process."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


def left_behind(where: Path | None = None) -> list[Left]:
    """Copies whose process is gone, the newest first; those of windows that still run are not among them."""
    found = []
    for copy in (where or folder()).glob(f"*{SUFFIX}"):
        try:
            note = decoded(copy.with_suffix(".json").read_bytes(), Note)
        except (OSError, msgspec.MsgspecError):
            note = Note(-1, "", None)
        if note.pid < 0 or started(note.pid) != note.started:
            found.append((copy.stat().st_mtime, Left(copy, Path(note.original) if note.original else None)))
    return [left for _, left in sorted(found, key=lambda pair: -pair[0])]


def recover(left: Left) -> Saved:
    """The session of a copy. SessionFileError if the copy is damaged; it is then kept where it is."""
    return read(left.copy)


def discard(left: Left) -> None:
    """Throws away what was left behind; what is gone already is no matter."""
    with contextlib.suppress(OSError):
        left.copy.unlink(missing_ok=True)
        left.copy.with_suffix(".json").unlink(missing_ok=True)


__all__ = ["Left", "Recovery", "SessionFileError", "discard", "left_behind", "recover"]
