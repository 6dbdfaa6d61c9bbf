"""Writes the changed session: a copy of the exchange file in which the plan has been carried out.

The original is never touched. Everything that did not change is the same, byte for byte.
"""

from __future__ import annotations

import errno
import shutil
import zipfile
from collections.abc import Collection, Mapping
from copy import copy
from pathlib import Path

import msgspec

from ..core.cards.card import Cards
from ..core.decisions.apply import apply
from ..core.decisions.decision import Plan
from ..core.session.session import Session
from ..core.units import said_by
from ..store import atomic, dawproject
from ..store.archive import DAMAGED, WHERE, Archive, ImportRefusedError
from ..store.splice import SpliceError
from . import edited
from .cutting import Cutting
from .outside import referred, text_for
from .project_changes import FOLDER, Changes
from .render import Rendered

# Decisions of which there is a file.
PRINTED = ("freeze", "bounce")
NO_CARDS: Cards = {}
NOTHING: Mapping[str, Path] = {}
PIECE = 1 << 20


class Written(msgspec.Struct, frozen=True):
    """The file that was written, what was done in it, and what has to be done by hand, in sentences."""

    path: str
    done: tuple[str, ...]
    by_hand: tuple[str, ...]


class WriteError(Exception):
    """Why the changed session was not written: what, where, why."""


def write(
    target: Path, source: Path, session: Session, plan: Plan, rendered: Mapping[str, Rendered], folder: Path,
    cards: Cards = NO_CARDS,
) -> Written:  # fmt: skip
    """Writes a copy of an exchange file with these tracks frozen and these plugins switched off.

    `rendered` are the files by strip, in `folder` (stems among them are none of its business); `cards` know the tails
    of plugins. What was not rendered is not done, but told. WriteError if it cannot be written; FILE itself is never
    changed.
    """
    if target.exists() and target.samefile(source):
        raise WriteError(f"{target} is the original, which is never changed: choose another name")
    try:
        is_of_file = session.source.endswith(source.suffix)
        file = dawproject.read(source).session if is_of_file else session
        printed = {strip.id: rendered[strip.id] for strip in file.strips if strip.id in rendered}
        # A track without its file stays as it is, its plugins on: whoever freezes it by hand prints them. So does one
        # that is new here: in the exchange file there is nothing to lay its file on.
        missing = [each for each in plan.decisions if each.kind in PRINTED and each.strip not in printed]
        plan, files = plan.without(*missing), dict[str, Path]()
        before, after = edited.as_in_file(session, file), apply(session, plan).session
        with Archive(source) as archive:
            text = text_for(archive, source, target)
            made = Changes(text, before, after, lambda path: referred(path, source, target), is_of_file)
            made.leave(edited.removed(session, file))
            for strip in before.strips:
                made.switch(strip)
                if strip.id in printed:
                    of, decision = printed[strip.id], plan.for_strip(strip.id)
                    files[f"{FOLDER}/{of.file}"] = folder / of.file
                    if decision is not None and decision.stretch is not None:
                        made.cut(strip, decision.stretch, of, Cutting(archive, source))
                    else:
                        made.freeze(strip, of)
            made.suspend(cards, printed)
        for strip in made.new_strips():
            made.add_bus(strip)
        repack(source, target, text.changed(), files)
    except (SpliceError, ImportRefusedError) as error:
        raise WriteError(f"{source.name}: {error}") from error
    except OSError as error:
        raise WriteError(f"{target} was not written: {said_by(error)}") from error
    by_hand = [f"{decision.kind}: {session.strip(decision.strip).name}" for decision in plan.decisions
               if decision.kind not in (*PRINTED, "off", "share", "lighten", "suspend")]  # fmt: skip
    by_hand += made.by_hand
    for each in missing:
        why = "new here" if each.strip in rendered else "not rendered"
        by_hand.append(f"{each.kind}: {session.strip(each.strip).name} ({why})")
    return Written(str(target), tuple(made.done), tuple(dict.fromkeys([*by_hand, *edited.left(session, file)])))


def repack(
    source: Path, target: Path, xml: bytes, files: Mapping[str, Path] = NOTHING, left: Collection[str] = ()
) -> None:
    """Writes an archive with another project in it, with more files and without those that are `left` out; all else as
    it was, a part at a time. OSError if it cannot be written, or a file cannot be read; then nothing is."""
    with (
        zipfile.ZipFile(source) as old,
        atomic.replacing(target) as fresh,
        zipfile.ZipFile(fresh, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False) as new,
    ):
        for entry in old.infolist():
            if entry.filename == WHERE:
                new.writestr(copy(entry), xml)
            elif entry.filename not in files and entry.filename not in left:
                try:
                    with old.open(entry) as there, new.open(copy(entry), "w") as made:
                        shutil.copyfileobj(there, made, PIECE)
                except DAMAGED as error:
                    said = f"“{entry.filename}” in {source.name} is damaged ({error})"
                    raise OSError(errno.EIO, said) from error
        for name, path in files.items():
            new.write(path, name, zipfile.ZIP_STORED)
