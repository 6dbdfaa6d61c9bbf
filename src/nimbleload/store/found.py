"""What a reader has found in files from elsewhere: a session, and a report of what was understood and what was not."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from ..core.session.session import Session
from ..core.units import said_by
from .dawproject import ImportReport

MOST_LINES = 12


class Found(msgspec.Struct, frozen=True):
    """A session made from files; `report` says in sentences what became of them."""

    session: Session
    report: ImportReport


class NothingFoundError(Exception):
    """Why nothing could be made of a file or folder: what, where, why."""


class StoppedError(Exception):
    """That reading was stopped before its end; nothing of it is kept."""


def content_of(path: Path, largest: int, why: str) -> bytes:
    """The bytes of a file. NothingFoundError if it cannot be read, or has more than `largest` (`why` ends that)."""
    try:
        with path.open("rb") as file:
            content = file.read(largest + 1)
    except OSError as error:
        raise NothingFoundError(f"{path} cannot be read: {said_by(error)}. Nothing was added.") from error
    if len(content) > largest:
        raise NothingFoundError(f"{path.name} has more than {largest >> 20} MB{why}")
    return content


Progress = Callable[[float, str], bool]


def unheard(share: float, doing: str) -> bool:
    """Tells nobody how far reading is (0 … 1), and never stops it."""
    return False


def shortened(lines: list[str], rest: str) -> tuple[str, ...]:
    """The first of many lines, and how many more there are; `rest` says of what."""
    if len(lines) <= MOST_LINES:
        return tuple(lines)
    return (*lines[:MOST_LINES], f"… and {len(lines) - MOST_LINES} more {rest}")
