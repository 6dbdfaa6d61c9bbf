"""What a reader has found in files from elsewhere: a session, and a report of what was understood and what was not."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from ..core.session.session import Session
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


Progress = Callable[[float, str], bool]


def unheard(share: float, doing: str) -> bool:
    """Tells nobody how far reading is (0 … 1), and never stops it."""
    return False


def shortened(lines: list[str], rest: str) -> tuple[str, ...]:
    """The first of many lines, and how many more there are; `rest` says of what."""
    if len(lines) <= MOST_LINES:
        return tuple(lines)
    return (*lines[:MOST_LINES], f"… and {len(lines) - MOST_LINES} more {rest}")
