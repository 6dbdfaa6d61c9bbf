"""Where large files lie for a while: on a disk. On many computers the usual folder for such files lies in memory."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Sequence
from functools import cache
from pathlib import Path

from . import mounts

# What they are called; the number of the program that made one follows.
PREFIX = "nimble-load-worker-"
MOUNTS = Path("/proc/self/mounts")
IN_MEMORY = ("tmpfs", "ramfs")
# For files that may be large and stay longer; on a disk (Filesystem Hierarchy Standard, 5.15).
LASTING = Path("/var/tmp")


def folder() -> Path:
    """The folder for them: what TMPDIR names; else the usual one, or, where that lies in memory, one that does not, if
    it may be written."""
    usual = Path(tempfile.gettempdir())
    if not os.environ.get("TMPDIR") and _kind(usual) in IN_MEMORY and _kind(LASTING) not in IN_MEMORY:
        return LASTING if os.access(LASTING, os.W_OK | os.X_OK) else usual
    return usual


class Folder(tempfile.TemporaryDirectory[str]):
    """A folder for large files that this process makes, gone with `cleanup` or with the program; `clear_left_behind`
    removes those of programs that were killed."""

    def __init__(self, what: str = "") -> None:
        prefix = f"{PREFIX}{os.getpid()}-{what}{'-' if what else ''}"
        super().__init__(prefix=prefix, dir=folder(), ignore_cleanup_errors=True)


@cache
def clear_left_behind() -> None:
    """Removes the folders of programs that were killed; once in each program."""
    for left in (each for folder in folders() for each in folder.glob(f"{PREFIX}*-*")):
        number = left.name.removeprefix(PREFIX).partition("-")[0]
        if number.isdigit() and not Path(f"/proc/{number}").exists():
            shutil.rmtree(left, ignore_errors=True)


def folders() -> Sequence[Path]:
    """Every folder in which such files, and small ones, may have been left."""
    return tuple(dict.fromkeys((Path(tempfile.gettempdir()), folder())))


def _kind(path: Path) -> str:
    """The kind of file system that a folder lies on; empty if it is not told."""
    try:
        return mounts.over(path.resolve(), MOUNTS.read_text(errors="replace"))[1]
    except OSError:
        return ""
