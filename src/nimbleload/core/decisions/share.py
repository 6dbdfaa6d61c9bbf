"""Share: the ends of chains that are alike on several tracks move to one bus, which carries their sends."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from ..cards.card import EXACT_DB, NEAR_DB
from ..session.plugins import PluginUse
from ..session.session import Session
from ..session.strips import Send, Strip
from ..units import decibels
from .alike import Group, is_late, late_sends, truth_of
from .decision import Decision
from .kind import Asked, Kind, Option, Work, bypassed, chain_called, unloaded, with_uses
from .price import Part, Price, Terms, sound_minutes

FAULTS = {
    "sends": "what their sends feed will sound without it",
    "pan": "the sound changes: its tracks are panned, and it would come after",
    "fader": "the sound changes: a fader rides, and it would come after",
}


class Share(Kind):
    """Tracks whose chains end alike have those ends once, on a bus that they feed."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        return "to share is for a plugin; the plan names none." if decision.use is None else None

    def carry_out(self, work: Work, decisions: Sequence[Decision]) -> None:
        """Each group needs two strips at least; who cannot join is told."""
        by_bus: dict[str, list[Decision]] = {}
        for decision in decisions:
            by_bus.setdefault(decision.into or "", []).append(decision)
        for into, members in sorted(by_bus.items()):
            bus = _share(work, into, members)
            if bus is not None:
                work.added.append(bus)

    def price(self, terms: Terms, decision: Decision) -> Price:
        weights, into = terms.weights, decision.into or ""
        strip = terms.session.strip(decision.strip)
        once = [(f"{into}: bus", Part(weights.bus, "to set up the bus"))]
        depths = [_null_db(terms, use) for use in shared_end(strip, decision)]
        known = [depth for depth in depths if depth is not None]
        worst = max(known) if known and len(known) == len(depths) else None
        if worst is None or worst > NEAR_DB:
            sound = 0.0 if terms.tracking else sound_minutes(worst) * weights.sound
            once.append((f"{into}: sound", Part(sound, "for its sound")))
        elif worst > EXACT_DB:
            once.append((f"{into}: nearly", Part(weights.nearly, f"for {decibels(worst)} that differ")))
        return Price((Part(weights.member, "to route each track"),), tuple(once))

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        for group in asked.sharing:
            own = [d for d in group.decisions() if d.strip == strip.id]
            if own:
                others = tuple(d for d in group.decisions() if d.strip != strip.id)
                label = chain_called(group.chain)
                title = f"Share {label} with {len(others)} more" if others else f"Share {label}"
                title += ", set alike" if group.differs else ""
                yield Option(own[0], title, given_up(group), None, others)

    def words(self, session: Session, decision: Decision) -> str:
        strip = session.strip(decision.strip)
        return f"Share {chain_called(shared_end(strip, decision))} of {strip.name} on a bus"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        uses = shared_end(strip, decision)
        what = f"{chain_called(uses)} on {strip.name}" if uses else strip.name
        if decision.like is not None and uses:
            return f"Put {what} back on its own track, set as it was: {uses[0].setting.words()}."
        return f"Put {what} back on its own track, unless one for all is how it shall sound."


def given_up(group: Group) -> str:
    """What sharing gives up, as measured."""
    if group.fault:
        return FAULTS[group.fault]
    if group.differs:
        return f"one setting for all: they differ in {', '.join(group.differs)}"
    if group.null_db is None:
        return "not known whether it changes the sound: measure it"
    if group.null_db <= EXACT_DB:
        return f"nothing: exact to {decibels(group.null_db)} while faders stand still; one setting for all"
    if group.null_db <= NEAR_DB:
        return f"nearly exact: {decibels(group.null_db)} apart; one setting for all"
    return f"changes the sound: {decibels(group.null_db)} apart"


def shared_end(strip: Strip, decision: Decision) -> tuple[PluginUse, ...]:
    """What such a decision moves to the bus: its insert and all after it, those that are bypassed left out; empty if
    it is gone.
    """
    place = next((k for k, use in enumerate(strip.inserts) if use.id == decision.use), len(strip.inserts))
    return tuple(use for use in strip.inserts[place:] if use.enabled)


def _null_db(terms: Terms, use: PluginUse) -> float | None:
    truth = truth_of(use, terms.cards)
    return truth.linear_db if truth is not None else None


def _share(work: Work, into: str, decisions: Sequence[Decision]) -> Strip | None:
    """Moves the ends of these chains to a new bus, which is returned; None if no two can share it."""
    like: Strip | None = None
    chain: tuple[PluginUse, ...] = ()
    joined: list[tuple[Strip, tuple[PluginUse, ...]]] = []
    for decision in sorted(decisions, key=lambda d: d.strip):
        strip = work.changed[decision.strip]
        own = shared_end(strip, decision)
        model = _use_named(work.session, decision.like)
        reason = _cannot_share(strip, own, like, chain, model)
        if reason is not None:
            work.warnings.append(f"{strip.name}: {reason}")
            continue
        like, chain = like or strip, chain or ((model,) if model is not None else own)
        joined.append((strip, own))
    if like is None or len(joined) < 2 or into in work.changed:
        if joined:
            work.warnings.append(f"{joined[0][0].name}: there is nobody left to share {chain_called(chain)} with.")
        return None
    carried = late_sends(like) if len({late_sends(strip) for strip, _ in joined}) == 1 else ()
    for strip, own in joined:
        lighter = with_uses(strip, {use.id: unloaded(bypassed(use)) for use in own})
        sends = tuple(send for send in strip.sends if not carried or not is_late(strip, send))
        work.changed[strip.id] = msgspec.structs.replace(lighter, output=into, sends=sends)
        for send in strip.sends if not carried else ():
            if send.enabled:
                target = work.session.strip(send.target).name
                shared = chain_called(chain)
                work.warnings.append(f"{strip.name}: its send to {target} leaves before the shared {shared}.")
    copies = tuple(msgspec.structs.replace(use, id=f"{into}/{use.id}") for use in chain)
    name = f"Shared {chain[0].label}"
    sends = tuple(Send(target, level, pre_fader) for target, level, pre_fader in carried)
    return Strip(
        into, name, "bus", inserts=copies, sends=sends, output=like.output, parent=like.parent, channels=like.channels
    )  # fmt: skip


def _use_named(session: Session, use_id: str | None) -> PluginUse | None:
    """The plugin with this id, on whatever strip; None if there is none, or no id."""
    return next((use for strip in session.strips for use in strip.inserts if use.id == use_id), None)


def _cannot_share(
    strip: Strip,
    own: tuple[PluginUse, ...],
    like: Strip | None,
    chain: tuple[PluginUse, ...],
    model: PluginUse | None,
) -> str | None:
    """Why a strip cannot share the end of its chain with another one, or in the setting of a model, as a sentence."""
    if not own:
        return "what it was to share is not on it any more: two decisions exclude each other."
    if any(strip.is_frozen(place) and use.id == own[0].id for place, use in strip.places()):
        return f"{own[0].label} is frozen, so it cannot be shared: two decisions exclude each other."
    if strip.output is None:
        return "it feeds nothing, so it has nothing to share a bus with."
    if any(use.sidechain is not None for use in own):
        return f"{own[0].label} listens to another track: one on a bus would hear something else."
    if like is not None and strip.output != like.output:
        return f"it feeds another strip than {like.name}, so they cannot share a bus."
    if model is not None:
        same = [(use.plugin.standard, use.plugin.identifier) for use in (*own, model)]
        if len(same) != 2 or same[0] != same[1]:
            return f"its chain does not end in {model.label} alone."
        return None
    if chain and [use.card_key() for use in own] != [use.card_key() for use in chain]:
        return f"the end of its chain is not the same as on {like.name if like else 'the others'}."
    return None
