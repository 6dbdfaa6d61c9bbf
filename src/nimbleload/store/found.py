"""What a reader has found in files from elsewhere: a session, and a report of what was understood and what was not."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import msgspec

from ..core.session.session import Session
from ..core.units import said_by
from .dawproject import ImportReport
from .xml_values import UNNAMED, is_writable, shown

MOST_LINES = 12
# What is no letter, and nothing between letters.
CONTROL = re.compile("[\0-\x1f\x7f-\x9f\ud800-\udfff\ufffe\uffff]+")


class Found(msgspec.Struct, frozen=True):
    """A session made from files; `report` says in sentences what became of them."""

    session: Session
    report: ImportReport


class NothingFoundError(Exception):
    """Why nothing could be made of a file or folder: what, where, why."""


class StoppedError(Exception):
    """That reading was stopped before its end; nothing of it is kept."""


def content_of(path: Path, largest: int, why: str) -> bytes:
    """The bytes of a file. NothingFoundError if it cannot be read or named, or has more than `largest` (`why` ends
    that)."""
    if not is_writable(str(path.resolve())):
        raise NothingFoundError(f"{shown(path)}: {UNNAMED}. Nothing was added.")
    try:
        with path.open("rb") as file:
            content = file.read(largest + 1)
    except OSError as error:
        raise NothingFoundError(f"{path} cannot be read: {said_by(error)}. Nothing was added.") from error
    if len(content) > largest:
        raise NothingFoundError(f"{path.name} has more than {largest >> 20} MB{why}")
    return content


def decoded(content: bytes) -> str:
    """Text as programs write it into files: UTF-8 or UTF-16 with or without a mark, else Western European."""
    if content[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return content.decode("utf-16", errors="replace")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        return content.decode("cp1252", errors="replace")


def name_of(text: str) -> str:
    """A name from elsewhere as it can be shown and written: some programs end names with what is no letter."""
    return CONTROL.sub(" ", text).strip()


Progress = Callable[[float, str], bool]


def unheard(share: float, doing: str) -> bool:
    """Tells nobody how far reading is (0 … 1), and never stops it."""
    return False


def shortened(lines: list[str], rest: str) -> tuple[str, ...]:
    """The first of many lines, and how many more there are; `rest` says of what."""
    if len(lines) <= MOST_LINES:
        return tuple(lines)
    return (*lines[:MOST_LINES], f"… and {len(lines) - MOST_LINES} more {rest}")
