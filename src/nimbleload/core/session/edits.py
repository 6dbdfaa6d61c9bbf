"""Edits of a session's strips and their routing: each makes a new session, or says in a sentence why it cannot.

Ids of new strips and plugins are counted on from those that are there, so the same edits make the same session.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec

from .plugins import PluginUse
from .routing import build
from .session import Session, SessionError
from .strips import Send, Strip, StripKind

MOST_STRIPS, MOST_COPIES, MOST_CHANNELS = 10_000, 1000, 64
WORDS: dict[StripKind, str] = {"track": "track", "bus": "bus", "return": "return", "main": "main output"}


def empty(name: str, rate: int = 48000, length: float = 180.0) -> Session:
    """A session with nothing but its main output. `rate` in hertz, `length` in seconds."""
    return Session(name, rate, length, (Strip("main", "Main", "main"),))


def main_of(session: Session) -> Strip | None:
    """The main output: the first strip of that kind."""
    return next((strip for strip in session.strips if strip.kind == "main"), None)


def checked(session: Session) -> Session:
    """The same session. SessionError if its routing runs in a circle, leads nowhere, or it is too large."""
    if len(session.strips) > MOST_STRIPS:
        raise SessionError(f"a session can have {MOST_STRIPS} tracks at most, this would be {len(session.strips)}")
    build(msgspec.structs.replace(session, strips=tuple(_all_on(strip) for strip in session.strips)))
    return session


def _all_on(strip: Strip) -> Strip:
    """What is switched off is checked as well: it may come on at any time."""
    silent = [use for use in strip.inserts if not use.enabled and use.sidechain is not None]
    muted = [send for send in strip.sends if not send.enabled]
    if strip.enabled and strip.frozen_through is None and not silent and not muted:
        return strip
    inserts = tuple(msgspec.structs.replace(use, enabled=True, loaded=True) for use in strip.inserts)
    sends = tuple(msgspec.structs.replace(send, enabled=True) for send in strip.sends)
    return msgspec.structs.replace(strip, inserts=inserts, sends=sends, enabled=True, frozen_through=None)


class Ids:
    """Hands out ids that nothing in a session has."""

    def __init__(self, session: Session) -> None:
        self._taken = {s.id for s in session.strips} | {use.id for s in session.strips for use in s.uses()}
        self._next: dict[str, int] = {}

    def fresh(self, stem: str) -> str:
        """`stem` and the lowest number from 1 on that is free."""
        number = self._next.get(stem, 1)
        while f"{stem}{number}" in self._taken:
            number += 1
        self._next[stem] = number + 1
        self._taken.add(f"{stem}{number}")
        return f"{stem}{number}"

    def take(self, wanted: str, stem: str) -> str:
        """The id that is wanted if it is free, else a fresh one."""
        if wanted in self._taken:
            return self.fresh(stem)
        self._taken.add(wanted)
        return wanted


def with_strips(session: Session, strips: Iterable[Strip]) -> Session:
    """The session with other strips."""
    return msgspec.structs.replace(session, strips=tuple(strips))


def there(session: Session, ids: Iterable[str]) -> set[str]:
    """These ids. SessionError if one of them is no strip's."""
    wanted = set(ids)
    missing = wanted - {strip.id for strip in session.strips}
    if missing:
        raise SessionError(f"the session has no track {min(missing)!r}")
    return wanted


def changed(session: Session, ids: Iterable[str], change: Callable[[Strip], Strip]) -> Session:
    """The session with some of its strips changed. SessionError if one of them is not there."""
    wanted = there(session, ids)
    return with_strips(session, (change(strip) if strip.id in wanted else strip for strip in session.strips))


def add(
    session: Session, kind: StripKind, name: str = "", count: int = 1, output: str | None = None, behind: str = ""
) -> Session:
    """The session with so many more tracks, buses or returns, in front of the main output, or right `behind` a strip.

    They feed `output` (an id), or the main output. Without a name they are called after their kind; several are
    numbered.
    """
    _check_count(count)
    main = main_of(session)
    if kind == "main":
        if main is not None:
            raise SessionError("a session has one main output, and this one has it already")
        return with_strips(session, (*session.strips, Strip(Ids(session).take("main", "main"), name or "Main", "main")))
    feeds = output if output is not None else main.id if main is not None else None
    ids, names = Ids(session), {strip.name for strip in session.strips}
    made = []
    for _ in range(count):
        called = free_name(name or WORDS[kind].capitalize(), names, bool(name) and count > 1)
        made.append(Strip(ids.fresh(WORDS[kind]), called, kind, output=feeds))
        names.add(called)
    places = [place for place, strip in enumerate(session.strips, 1) if strip.id == behind and strip.kind != "main"]
    if not places:
        return checked(before_main(session, made))
    return checked(with_strips(session, (*session.strips[: places[0]], *made, *session.strips[places[0] :])))


def _check_count(count: int) -> None:
    if not 1 <= count <= MOST_COPIES:
        raise SessionError(f"{count} at once is not possible: from 1 to {MOST_COPIES}")


def free_name(wanted: str, taken: set[str], numbered: bool = False) -> str:
    """A name that no other has: as wanted, or with a number behind it (always, with `numbered`)."""
    if not numbered and wanted not in taken:
        return wanted
    count = 1 if numbered else 2
    while f"{wanted} {count}" in taken:
        count += 1
    return f"{wanted} {count}"


def before_main(session: Session, made: Sequence[Strip]) -> Session:
    """The session with more strips, in front of its main output."""
    strips = list(session.strips)
    at = next((i for i, strip in enumerate(strips) if strip.kind == "main"), len(strips))
    strips[at:at] = made
    return with_strips(session, strips)


def rename(session: Session, strip_id: str, name: str) -> Session:
    """The session with one strip called otherwise. SessionError if the name is empty."""
    if not name.strip():
        raise SessionError("a track needs a name")
    return changed(session, [strip_id], lambda strip: msgspec.structs.replace(strip, name=name.strip()))


def duplicate(session: Session, ids: Iterable[str], times: int = 1, members: bool = False) -> Session:
    """The session with so many copies of some strips, each behind what it is a copy of.

    Copies play what the first one plays and feed what it feeds; where both are copied, the copy feeds the copy. With
    `members`, all that feeds a copied bus through its output alone is copied with it.
    """
    _check_count(times)
    chosen = there(session, ids)
    if members:
        chosen |= members_of(session, chosen)
    picked = [strip for strip in session.strips if strip.id in chosen]
    if any(strip.kind == "main" for strip in picked):
        raise SessionError("the main output cannot be doubled")
    fresh, names = Ids(session), {strip.name for strip in session.strips}
    copies: dict[str, list[Strip]] = {strip.id: [] for strip in picked}
    for _ in range(times):
        new = {strip.id: fresh.fresh(WORDS[strip.kind]) for strip in picked}
        for strip in picked:
            name = free_name(strip.name, names)
            names.add(name)
            copies[strip.id].append(copied(strip, new, fresh, name))
    strips: list[Strip] = []
    for strip in session.strips:
        strips += [strip, *copies.get(strip.id, ())]
    return checked(with_strips(session, strips))


def copied(strip: Strip, new: dict[str, str], fresh: Ids, name: str) -> Strip:
    """A strip under another id and name, its plugins under fresh ids; what it refers to is looked up in `new`."""

    def use(old: PluginUse) -> PluginUse:
        heard = None if old.sidechain is None else new.get(old.sidechain, old.sidechain)
        return msgspec.structs.replace(old, id=fresh.fresh("plugin"), sidechain=heard)

    sends = tuple(msgspec.structs.replace(send, target=new.get(send.target, send.target)) for send in strip.sends)
    return msgspec.structs.replace(
        strip, id=new[strip.id], name=name, sends=sends, inserts=tuple(use(each) for each in strip.inserts),
        instrument=use(strip.instrument) if strip.instrument is not None else None,
        output=None if strip.output is None else new.get(strip.output, strip.output),
        parent=None if strip.parent is None else new.get(strip.parent, strip.parent),
    )  # fmt: skip


def members_of(session: Session, buses: Iterable[str]) -> set[str]:
    """The ids of all strips that reach one of these buses through outputs alone."""
    found = set(buses)
    while more := {strip.id for strip in session.strips if strip.output in found} - found:
        found |= more
    return found - set(buses)


def remove(session: Session, ids: Iterable[str]) -> Session:
    """The session without some strips. What fed one of them feeds what that fed; sends to it and listening end."""
    gone = there(session, ids)
    by_id = {strip.id: strip for strip in session.strips}
    if any(by_id[each].kind == "main" for each in gone):
        raise SessionError("the main output cannot be removed")

    def beyond(target: str | None) -> str | None:
        seen: set[str] = set()
        while target in gone and target not in seen:
            seen.add(target)
            target = by_id[target].output
        return None if target in gone else target

    def kept(strip: Strip) -> Strip:
        def deaf(use: PluginUse) -> PluginUse:
            return msgspec.structs.replace(use, sidechain=None) if use.sidechain in gone else use

        return msgspec.structs.replace(
            strip, output=beyond(strip.output), parent=beyond(strip.parent),
            sends=tuple(send for send in strip.sends if send.target not in gone),
            inserts=tuple(deaf(use) for use in strip.inserts),
            instrument=deaf(strip.instrument) if strip.instrument is not None else None,
        )  # fmt: skip

    return checked(with_strips(session, (kept(strip) for strip in session.strips if strip.id not in gone)))


def move(session: Session, ids: Iterable[str], by: int) -> Session:
    """The session with some strips so many places later in its list (earlier if negative), as far as they can go.

    The main output stays where it is; the order of the moved ones stays as it was.
    """
    chosen = there(session, ids)
    strips = list(session.strips)
    for _ in range(min(abs(by), len(strips))):
        order = range(len(strips)) if by < 0 else range(len(strips) - 1, -1, -1)
        step = -1 if by < 0 else 1
        for i in order:
            other = i + step
            if strips[i].id not in chosen or not 0 <= other < len(strips):
                continue
            if strips[other].id in chosen or "main" in (strips[i].kind, strips[other].kind):
                continue
            strips[i], strips[other] = strips[other], strips[i]
    return with_strips(session, strips)


def route(session: Session, ids: Iterable[str], output: str | None) -> Session:
    """The session with some strips feeding another one, or nothing (None). SessionError names a circle."""

    def routed(strip: Strip) -> Strip:
        if strip.kind == "main":
            raise SessionError("the main output feeds the audio device and nothing else")
        return msgspec.structs.replace(strip, output=output, parent=None)

    return checked(changed(session, ids, routed))


def send(
    session: Session, ids: Iterable[str], target: str, level: float = 1.0, pre_fader: bool = False, on: bool = True
) -> Session:
    """The session with some strips sending to another one; a send that is there already is changed."""
    there(session, [target])
    if not 0 <= level <= 1e6:
        raise SessionError(f"a send level of {level} is not possible")

    def sending(strip: Strip) -> Strip:
        made = [msgspec.structs.replace(old, level=level, pre_fader=pre_fader, enabled=on) if old.target == target
                else old for old in strip.sends]  # fmt: skip
        if all(old.target != target for old in strip.sends):
            made.append(Send(target, level, pre_fader, on))
        return msgspec.structs.replace(strip, sends=tuple(made))

    return checked(changed(session, ids, sending))


def unsend(session: Session, ids: Iterable[str], target: str | None = None) -> Session:
    """The session with some strips no longer sending to another one, or to any (None)."""

    def without(strip: Strip) -> Strip:
        kept = () if target is None else tuple(send for send in strip.sends if send.target != target)
        return msgspec.structs.replace(strip, sends=kept)

    return changed(session, ids, without)


def arm(session: Session, ids: Iterable[str], on: bool) -> Session:
    """The session with some tracks record-armed, or not."""

    def armed(strip: Strip) -> Strip:
        if on and strip.kind != "track":
            raise SessionError(f"{strip.name} is a {WORDS[strip.kind]}: only tracks are recorded")
        return msgspec.structs.replace(strip, armed=on)

    return changed(session, ids, armed)


def widen(session: Session, ids: Iterable[str], channels: int) -> Session:
    """The session with some strips so many channels wide, and what is on them."""
    if not 1 <= channels <= MOST_CHANNELS:
        raise SessionError(f"a track has 1 to {MOST_CHANNELS} channels, not {channels}")
    return changed(session, ids, lambda strip: strip.widened(channels))


def switch(session: Session, ids: Iterable[str], on: bool) -> Session:
    """The session with some strips switched on, or off with all their plugins."""

    def switched(strip: Strip) -> Strip:
        if strip.kind == "main" and not on:
            raise SessionError("the main output cannot be switched off")
        return msgspec.structs.replace(strip, enabled=on)

    return changed(session, ids, switched)
