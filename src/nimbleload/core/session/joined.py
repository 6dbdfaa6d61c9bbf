"""One session added to another, and tracks that were copied elsewhere: under ids of their own."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from ..units import count
from .edits import Ids, before_main, checked, copied, free_name, main_of
from .plugins import PluginUse
from .session import Session
from .strips import Strip


class Joined(NamedTuple):
    """A session with another one in it; `notes` say in sentences what of the other one was not taken."""

    session: Session
    notes: tuple[str, ...]


def joined(session: Session, other: Session) -> Joined:
    """Adds all strips of `other`; its main output's place is taken by this session's, whose plugins stay.

    Rate, tempo, host and device stay this session's. SessionError if it became too large.
    """
    notes = []
    if other.rate != session.rate:
        notes.append(f"It is at {other.rate} Hz; here everything runs at {session.rate} Hz.")
    if other.timing != session.timing:
        notes.append("It goes otherwise: its clips lie at the same seconds as there, not at the same beats.")
    own_main, its_main = main_of(session), main_of(other)
    if own_main is not None and its_main is not None and its_main.inserts:
        held = count(len(its_main.inserts), "plugin")
        notes.append(f"Its main output, with {held}, was left out: this session has its own.")
    taken = [strip for strip in other.strips if own_main is None or strip is not its_main]
    ids, names = Ids(session), {strip.name for strip in session.strips}
    new = {strip.id: ids.take(strip.id, strip.kind) for strip in taken}
    if own_main is not None and its_main is not None:
        new[its_main.id] = own_main.id
    made: list[Strip] = []
    for strip in taken:
        name = free_name(strip.name, names)
        names.add(name)
        made.append(copied(strip, new, ids, name))
    sections = session.sections or other.sections
    if session.sections and other.sections:
        notes.append(f"Its sections ({len(other.sections)}) were left out: this session has its own.")
    variants = (*session.variants, *(each for each in other.variants if each not in session.variants))
    length = max(session.length, other.length)
    whole = msgspec.structs.replace(
        before_main(session, made), sections=sections, length=length, variants=variants
    )
    return Joined(checked(whole), tuple(notes))


def pasted(session: Session, tracks: Sequence[Strip]) -> Session:
    """The session with copies of tracks from anywhere, in front of its main output.

    What they feed, send and listen to is the copy where that is among them, else what this session has under that id;
    a track that fed what is not here feeds the main output, and sends to what is not here are left out.
    """
    main = main_of(session)
    taken = [strip for strip in tracks if strip.kind != "main"]
    ids, names, here = Ids(session), {strip.name for strip in session.strips}, {strip.id for strip in session.strips}
    new = {strip.id: ids.fresh(strip.kind) for strip in taken}
    known = here | set(new)

    def use(old: PluginUse) -> PluginUse:
        return old if old.sidechain in known else msgspec.structs.replace(old, sidechain=None)

    made: list[Strip] = []
    for strip in taken:
        name = free_name(strip.name, names)
        names.add(name)
        strip = msgspec.structs.replace(
            strip, output=strip.output if strip.output in known else main.id if main is not None else None, parent=None,
            sends=tuple(send for send in strip.sends if send.target in known), part_of=None,
            inserts=tuple(use(each) for each in strip.inserts),
            instrument=use(strip.instrument) if strip.instrument is not None else None,
        )  # fmt: skip
        made.append(copied(strip, new, ids, name))
    length = max([session.length, *(clip.end for strip in made for clip in strip.clips)])
    return checked(msgspec.structs.replace(before_main(session, made), length=length))
