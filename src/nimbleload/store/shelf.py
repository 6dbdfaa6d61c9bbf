"""Chains that are kept for use in other sessions: a text file each in the user's data folder, as on the clipboard."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from urllib.parse import quote, unquote

import platformdirs

from ..core.session.chain_edits import listening_to_nothing
from ..core.session.plugins import PluginUse
from ..core.units import said_by
from . import atomic, clipping

SUFFIX = ".json"
# Letters that every file system takes as they are; all others are written as their numbers. No longer names than this.
PLAIN, LONGEST_NAME = " -_.()+&,'", 80


class ShelfError(Exception):
    """Why a chain could not be kept or taken, as a sentence."""


def default_folder() -> Path:
    """Where the user's shelf lies, whether it is there or not."""
    return Path(platformdirs.user_data_dir("nimble-load")) / "shelf"


def names(folder: Path | None = None) -> list[str]:
    """What chains are kept as, in alphabetical order; none where there is no shelf."""
    where = folder or default_folder()
    found = [unquote(path.stem) for path in where.glob(f"*{SUFFIX}")] if where.is_dir() else []
    return sorted(found, key=lambda name: (name.lower(), name))


def keep(name: str, uses: Iterable[PluginUse], folder: Path | None = None) -> None:
    """Keeps plugins in their order under a name; what was kept under it gives way. What they listen to stays behind.

    ShelfError if there are none, the name is none, or it cannot be written.
    """
    plain = name.strip()[:LONGEST_NAME]
    kept = [listening_to_nothing(use) for use in uses]
    if not plain:
        raise ShelfError("A chain on the shelf needs a name.")
    if not kept:
        raise ShelfError(f"There are no plugins to keep as {plain}.")
    path = _path(plain, folder)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        atomic.write(path, clipping.as_text((), kept).encode())
    except OSError as error:
        raise ShelfError(f"{plain} could not be kept in {path.parent}: {said_by(error)}.") from error


def take(name: str, folder: Path | None = None) -> tuple[PluginUse, ...]:
    """The plugins that are kept under a name. ShelfError if there are none, or the file is not understood."""
    path = _path(name, folder)
    try:
        if path.stat().st_size > clipping.LARGEST:
            raise ShelfError(f"{path} is larger than any chain.")
        found = clipping.from_text(path.read_text(errors="replace"))
    except FileNotFoundError:
        there = ", ".join(names(folder)) or "nothing"
        raise ShelfError(f"Nothing is kept as {name}; on the shelf there is {there}.") from None
    except OSError as error:
        raise ShelfError(f"{path} cannot be read: {said_by(error)}.") from error
    except clipping.NoClippingError as error:
        raise ShelfError(f"{path} holds no chain: {str(error).replace('what is on the clipboard', 'it')}.") from error
    if not found.plugins:
        raise ShelfError(f"{path} holds no plugins.")
    return found.plugins


def drop(name: str, folder: Path | None = None) -> None:
    """Takes what is kept under a name off the shelf. ShelfError if that fails."""
    try:
        _path(name, folder).unlink(missing_ok=True)
    except OSError as error:
        raise ShelfError(f"{name} could not be taken off the shelf: {said_by(error)}.") from error


def _path(name: str, folder: Path | None) -> Path:
    # A name of dots alone would be a folder's.
    written = quote(name, safe=PLAIN)
    if not written.strip("."):
        written = written.replace(".", "%2E")
    return (folder or default_folder()) / f"{written}{SUFFIX}"
