"""Files that an exchange file refers to outside of itself, when a copy of it is written to another folder."""

from __future__ import annotations

import os
from pathlib import Path

from ..store.archive import LARGEST_XML, WHERE, Archive
from ..store.splice import Text


def referred(path: str, source: Path, target: Path) -> str:
    """What a file outside of an exchange file is called in a copy of that: as it was in the same folder; else relative
    to the copy if it lies beside or below that, absolute if it does not."""
    old, new = source.resolve().parent, target.resolve().parent
    if old == new or Path(path).is_absolute():
        return path
    there = Path(os.path.normpath(old / path))
    return (there.relative_to(new) if there.is_relative_to(new) else there).as_posix()


def text_for(archive: Archive, source: Path, target: Path) -> Text:
    """The text of the project in an exchange file, for a copy: it refers to what lies outside from there."""
    text = Text(archive.read(WHERE, LARGEST_XML))
    moved = [
        (each, path) for tag in ("File", "State") for each in text.root.iter(tag)
        if each.attributes.get("external") == "true"
        and (path := referred(each.attributes.get("path", ""), source, target)) != each.attributes.get("path", "")
    ]  # fmt: skip
    for each, path in moved:
        text.set(each, "path", path)
    return Text(text.changed()) if moved else text
