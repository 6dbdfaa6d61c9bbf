"""Edits of chains: plugins put in, moved, copied, bypassed, replaced and taken out; and what they listen to."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec

from .edits import Ids, changed, checked, with_strips
from .plugins import PluginUse, Setting, Variant
from .session import Session, SessionError
from .strips import Strip

MOST_INSERTS = 256


def holder(session: Session, use_id: str) -> Strip:
    """The strip that a plugin sits on. SessionError if there is no such plugin."""
    for strip in session.strips:
        if any(use.id == use_id for use in strip.uses()):
            return strip
    raise SessionError(f"the session has no plugin {use_id!r}")


def find(session: Session, use_id: str) -> PluginUse:
    """A plugin by its id. SessionError if there is none."""
    return next(use for use in holder(session, use_id).uses() if use.id == use_id)


def insert(session: Session, strip_id: str, uses: Sequence[PluginUse], place: int | None = None) -> Session:
    """The session with plugins put into a strip's chain at a place (0: the first insert; None: the end).

    They are as wide as the strip. An instrument becomes the strip's instrument, and plays as many notes at once as the
    track does, where that is known of its clips. The plugins get ids of their own; what they listen to must be there.
    """
    fresh = Ids(session)
    made = [msgspec.structs.replace(use, id=fresh.fresh("plugin")) for use in uses]
    return checked(changed(session, [strip_id], lambda strip: _inserted(strip, made, place)))


def _inserted(strip: Strip, uses: Sequence[PluginUse], place: int | None) -> Strip:
    uses = [msgspec.structs.replace(use, channels=strip.channels) for use in uses]
    instruments = [use for use in uses if use.family == "instrument"]
    if instruments and strip.kind != "track":
        raise SessionError(f"{instruments[0].label} is an instrument, and {strip.name} is no track")
    if len(instruments) + (strip.instrument is not None) > 1:
        raise SessionError(f"a track has one instrument, and {strip.name} has it already")
    inserts = list(strip.inserts)
    at = len(inserts) if place is None else min(max(place, 0), len(inserts))
    effects = [use for use in uses if use.family != "instrument"]
    inserts[at:at] = effects
    if len(inserts) > MOST_INSERTS:
        raise SessionError(f"{strip.name} would have {len(inserts)} inserts; {MOST_INSERTS} are possible")
    most = max((notes for clip in strip.clips for _, notes in clip.voices), default=0)
    instruments = [msgspec.structs.replace(use, voices=most or use.voices) for use in instruments]
    # What is put in behind the fader stays behind it.
    after = strip.post_fader + (len(effects) if strip.post_fader and at > strip.last_before_fader + 1 else 0)
    return msgspec.structs.replace(
        strip, inserts=tuple(inserts), instrument=instruments[0] if instruments else strip.instrument, post_fader=after,
        frozen_through=None,
    )  # fmt: skip


def take_out(session: Session, use_ids: Iterable[str]) -> Session:
    """The session without some plugins. Sends that left behind one leave behind the one before it."""
    gone = set(use_ids)
    for each in gone:
        holder(session, each)
    return with_strips(session, (_without(strip, gone) for strip in session.strips))


def _without(strip: Strip, gone: set[str]) -> Strip:
    if not any(use.id in gone for use in strip.uses()):
        return strip
    kept = [(place, use) for place, use in enumerate(strip.inserts) if use.id not in gone]
    before = {place: sum(1 for other, _ in kept if other <= place) - 1 for place in range(len(strip.inserts))}
    sends = tuple(
        send if send.after is None or send.after < 0 else msgspec.structs.replace(send, after=before.get(send.after))
        for send in strip.sends
    )
    after = sum(1 for place, _ in kept if place > strip.last_before_fader)
    instrument = None if strip.instrument is None or strip.instrument.id in gone else strip.instrument
    return msgspec.structs.replace(
        strip, inserts=tuple(use for _, use in kept), instrument=instrument, sends=sends, post_fader=after,
        frozen_through=None,
    )  # fmt: skip


def put(
    session: Session, use_ids: Sequence[str], strip_id: str, place: int | None = None, copy: bool = False
) -> Session:
    """The session with plugins moved, or copied, to a place in a chain (as it is before); their order is kept."""
    uses = [find(session, each) for each in use_ids]
    target = session.strip(strip_id)
    if copy:
        return insert(session, strip_id, uses, place)
    gone = set(use_ids)
    if place is not None:
        place -= sum(1 for use in target.inserts[:place] if use.id in gone)
    without = take_out(session, use_ids)
    return checked(changed(without, [strip_id], lambda strip: _inserted(strip, uses, place)))


def _each(session: Session, use_ids: Iterable[str], change: Callable[[PluginUse], PluginUse]) -> Session:
    """The session with some of its plugins changed. SessionError if one is not there."""
    wanted = set(use_ids)
    for each in wanted:
        holder(session, each)

    def strip(old: Strip) -> Strip:
        if not any(use.id in wanted for use in old.uses()):
            return old
        made = [change(use) if use.id in wanted else use for use in old.inserts]
        instrument = old.instrument
        if instrument is not None and instrument.id in wanted:
            instrument = change(instrument)
        return msgspec.structs.replace(old, inserts=tuple(made), instrument=instrument)

    return with_strips(session, (strip(each) for each in session.strips))


def bypass(session: Session, use_ids: Iterable[str], on: bool) -> Session:
    """The session with some plugins bypassed, or on again."""
    return _each(session, use_ids, lambda u: msgspec.structs.replace(u, enabled=not on, loaded=u.loaded or not on))


def set_values(session: Session, use_ids: Iterable[str], values: dict[str, float]) -> Session:
    """The session with parameters of some plugins set; what is not named stays as it is.

    A plugin with a saved state keeps it, with the values on top. SessionError on a value that is no number.
    """
    wrong = [name for name, value in values.items() if not -1e300 < value < 1e300]
    if wrong:
        raise SessionError(f"{wrong[0]} cannot be {values[wrong[0]]}")

    def with_values(use: PluginUse) -> PluginUse:
        made = tuple({**dict(use.setting.values), **values}.items())
        return msgspec.structs.replace(use, setting=Setting(made, use.setting.state))

    return _each(session, use_ids, with_values)


def set_state(session: Session, use_ids: Iterable[str], state: bytes | None) -> Session:
    """The session with a saved state given to some plugins, in place of what was set; None: as they start."""
    return _each(session, use_ids, lambda use: msgspec.structs.replace(use, setting=Setting((), state)))


def with_setting(session: Session, use_id: str, found: Setting) -> Session:
    """The session with one plugin set as it was left in its own window: a state in place of what was set, or values
    over what was set. SessionError if the plugin is not there."""
    if found.state is not None:
        return set_state(session, [use_id], found.state)
    return set_values(session, [use_id], dict(found.values))


def replace(session: Session, use_ids: Iterable[str], other: PluginUse) -> Session:
    """The session with another plugin in the place of some: its own setting, where they were, on or off as they were.

    SessionError where an instrument would stand in for an effect, or the other way about.
    """

    def replaced(use: PluginUse) -> PluginUse:
        if (use.family == "instrument") != (other.family == "instrument"):
            raise SessionError(f"{other.label} cannot take the place of {use.label}: one of them is an instrument")
        return msgspec.structs.replace(
            other, id=use.id, enabled=use.enabled, loaded=use.loaded, channels=use.channels, voices=use.voices,
            sidechain=use.sidechain,
        )  # fmt: skip

    return _each(session, use_ids, replaced)


def listen(session: Session, use_ids: Iterable[str], strip_id: str | None) -> Session:
    """The session with some plugins listening to a strip through their side-chain, or to none (None)."""
    return checked(_each(session, use_ids, lambda use: msgspec.structs.replace(use, sidechain=strip_id)))


def listening_to_nothing(use: PluginUse) -> PluginUse:
    """A plugin without a side-chain."""
    return msgspec.structs.replace(use, sidechain=None)


def place_fader(session: Session, strip_id: str, after: int) -> Session:
    """The session with so many of a strip's last inserts behind its fader."""
    return changed(session, [strip_id], lambda strip: msgspec.structs.replace(strip, post_fader=after))


def with_variant(session: Session, variant: Variant) -> Session:
    """The session with another setting that a plugin could take; one of the same values only changes its name."""
    others = tuple(v for v in session.variants if msgspec.structs.replace(v, name=variant.name) != variant)
    return msgspec.structs.replace(session, variants=(*others, variant))
