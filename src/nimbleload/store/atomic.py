"""Writing a file so that it is either the old one or the new one, whole, whatever happens in between."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

BACKUP_SUFFIX = ".bak"


def write(path: Path, content: bytes, backup: bool = False) -> None:
    """Writes beside the file, syncs, then renames over it; with `backup` the old one is kept as `name.bak`.

    OSError if it cannot be written; then the old file is untouched.
    """
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    fresh = Path(name)
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        if backup and path.exists():
            kept = path.with_name(path.name + BACKUP_SUFFIX)
            kept.unlink(missing_ok=True)
            os.link(path, kept)
        fresh.chmod(path.stat().st_mode if path.exists() else 0o644)
        fresh.replace(path)
    except BaseException:
        fresh.unlink(missing_ok=True)
        raise
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
