"""Writing a file so that it is either the old one or the new one, whole, whatever happens in between."""

from __future__ import annotations

import contextlib
import fcntl
import glob
import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

BACKUP_SUFFIX = ".bak"
STALE_SECONDS = 3600.0


def _clear(path: Path) -> None:
    """Removes what writing this file has left behind that was ended in the middle of it, some time ago. What is being
    written is locked: a clock that jumps does not make it old."""
    for left in path.parent.glob(f".{glob.escape(path.name)}.????????"):
        with contextlib.suppress(OSError):
            if time.time() - left.stat().st_mtime > STALE_SECONDS and not _is_written(left):
                left.unlink()


def _is_written(path: Path) -> bool:
    """Whether somebody on this computer is writing a file right now."""
    handle = os.open(path, os.O_RDONLY)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        return False
    except BlockingIOError:
        return True
    finally:
        os.close(handle)


@contextlib.contextmanager
def replacing(path: Path, backup: bool = False) -> Iterator[Path]:
    """A fresh file beside `path` to be written to. Once it is whole it is synced, then renamed over `path`; with
    `backup` the old one is kept as `name.bak`.

    A link is followed: what it leads to is written. OSError if it cannot be written; then, and if the writing itself
    fails, the old file is untouched. A device or a pipe is written into: nothing takes its place.
    """
    if path.exists() and not path.is_file():
        with tempfile.TemporaryDirectory() as folder:
            fresh = Path(folder) / path.name
            yield fresh
            with fresh.open("rb") as made, path.open("wb") as out:
                shutil.copyfileobj(made, out)
        return
    path = Path(os.path.realpath(path))
    _clear(path)
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    fresh = Path(name)
    try:
        # Not every file system has locks.
        with contextlib.suppress(OSError):
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield fresh
        _sync(fresh)
        if backup and path.exists():
            kept = path.with_name(path.name + BACKUP_SUFFIX)
            kept.unlink(missing_ok=True)
            try:
                os.link(path, kept)
            except OSError:
                # Not every file system has hard links.
                shutil.copy2(path, kept)
        fresh.chmod(path.stat().st_mode if path.exists() else 0o644)
        fresh.replace(path)
    except BaseException:
        fresh.unlink(missing_ok=True)
        raise
    finally:
        os.close(handle)
    _sync(path.parent)


def _sync(path: Path) -> None:
    """Waits until a file, or what a folder lists, lies on the disk."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def write(path: Path, content: bytes, backup: bool = False) -> None:
    """Writes a file as `replacing` does."""
    with replacing(path, backup) as fresh:
        fresh.write_bytes(content)
