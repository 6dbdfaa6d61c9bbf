"""Decisions that reach beyond one strip: printing, sharing one chain on a bus, and moving plugins out of the computer.

And what to mind of each decision, in sentences.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

import msgspec

from ..piece.moments import tail, union
from ..session.plugins import PluginUse
from ..session.routing import edges
from ..session.session import Session
from ..session.strips import Clip, Strip
from ..units import clock

if TYPE_CHECKING:
    from ..cards.card import Cards
    from .plan import Decision, Plan

Strips = dict[str, Strip]
# A tail longer than this, in seconds, is worth a word where something may cut it.
LONG_TAIL = 0.5


def printed(strip: Strip, through: int | None = None) -> Strip:
    """A track whose sound up to a place (None: its fader) has been printed, a clip for each stretch.

    What comes after that place stays live, as do fader and sends.
    """
    clips = _one_each((clip.start, clip.end) for clip in strip.clips)
    named = tuple(msgspec.structs.replace(clip, name=f"{strip.name} (bounced)") for clip in clips)
    left = () if through is None else strip.inserts[through + 1 :]
    return msgspec.structs.replace(strip, instrument=None, inserts=left, clips=named, frozen_through=None)


def muted_source(strip: Strip) -> Strip:
    """What a track was before it was printed, kept beside the print: muted, and without sends."""

    def kept(use: PluginUse) -> PluginUse:
        return msgspec.structs.replace(use, id=f"{use.id}/source")

    return msgspec.structs.replace(
        strip,
        id=f"{strip.id}/source",
        name=f"{strip.name} (source)",
        instrument=kept(strip.instrument) if strip.instrument is not None else None,
        inserts=tuple(kept(use) for use in strip.inserts),
        sends=(),
        mute=True,
    )


def bounce_range(strip: Strip, start: float, end: float) -> tuple[Strip, Strip]:
    """A track without what it plays from one second to another, and a new track that plays just that, printed."""
    inside = [(max(clip.start, start), min(clip.end, end)) for clip in strip.clips]
    name = f"{strip.name} (bounced {clock(start)})"
    clips = tuple(msgspec.structs.replace(clip, name=name) for clip in _one_each(s for s in inside if s[1] > s[0]))
    rest = tuple(
        msgspec.structs.replace(clip, start=a, end=b)
        for clip in strip.clips
        for a, b in ((clip.start, min(clip.end, start)), (max(clip.start, end), clip.end))
        if b > a
    )
    new = msgspec.structs.replace(
        printed(strip), id=f"{strip.id}/bounced", name=name, clips=clips, armed=False, suspended=False
    )
    return msgspec.structs.replace(strip, clips=rest), new


def _one_each(spans: Iterable[tuple[float, float]]) -> list[Clip]:
    """A clip for each stretch in which something was."""
    return [Clip(start, end, "audio") for start, end in union(spans)]


def group_of(session: Session, bus_id: str) -> tuple[list[str], str | None]:
    """The ids of all strips that feed a bus, near or far; and why they cannot be printed with it, if they feed more."""
    pairs = edges(session)
    ids = [strip.id for strip in session.strips]
    bus = ids.index(bus_id)
    found = {bus}
    while more := {source for source, target in pairs if target in found} - found:
        found |= more
    for source, target in sorted(pairs):
        if source in found and source != bus and target not in found:
            reason = f"{session.strips[source].name} also feeds {session.strips[target].name}, which would lose it."
            return [ids[k] for k in sorted(found - {bus})], reason
    return [ids[k] for k in sorted(found - {bus})], None


def bounce_group(session: Session, bus_id: str, changed: Strips) -> None:
    """A bus is printed with all that feeds it: those are switched off, and one clip for each stretch is left."""
    inside, _ = group_of(session, bus_id)
    clips = [(clip.start, clip.end) for strip_id in inside for clip in session.strip(strip_id).clips]
    for strip_id in inside:
        changed[strip_id] = msgspec.structs.replace(changed[strip_id], enabled=False)
    changed[bus_id] = printed(msgspec.structs.replace(changed[bus_id], clips=tuple(_one_each(clips))))


def chain_from(inserts: tuple[PluginUse, ...], use_id: str) -> tuple[PluginUse, ...]:
    """The insert with this id and all after it, those that are bypassed left out; empty if there is none."""
    place = next((k for k, use in enumerate(inserts) if use.id == use_id), len(inserts))
    return tuple(use for use in inserts[place:] if use.enabled)


def share(session: Session, plan: Plan, changed: Strips, warnings: list[str]) -> list[Strip]:
    """Moves the ends of chains that are alike to new buses, which are returned; each needs two strips at least."""
    groups: dict[str, list[Decision]] = {}
    for decision in plan.decisions:
        if decision.kind == "share" and decision.strip in changed:
            groups.setdefault(decision.into or "", []).append(decision)
    made = []
    for into, decisions in sorted(groups.items()):
        like: Strip | None = None
        chain: tuple[PluginUse, ...] = ()
        joined: list[tuple[Strip, tuple[PluginUse, ...]]] = []
        for decision in sorted(decisions, key=lambda d: d.strip):
            strip = changed[decision.strip]
            own = chain_from(strip.inserts, decision.use or "")
            model = _use_named(session, decision.like)
            reason = _cannot_share(strip, own, like, chain, model)
            if reason is not None:
                warnings.append(f"{strip.name}: {reason}")
                continue
            like, chain = like or strip, chain or ((model,) if model is not None else own)
            joined.append((strip, own))
        if like is None or len(joined) < 2 or into in changed:
            if joined:
                warnings.append(f"{joined[0][0].name}: there is nobody left to share {chain[0].label} with.")
            continue
        for strip, own in joined:
            inserts = tuple(msgspec.structs.replace(use, enabled=False) if use in own else use for use in strip.inserts)
            changed[strip.id] = msgspec.structs.replace(strip, inserts=inserts, output=into)
            for send in strip.sends:
                if send.enabled:
                    target = session.strip(send.target).name
                    warnings.append(f"{strip.name}: its send to {target} leaves before the shared {chain[0].label}.")
        copies = tuple(msgspec.structs.replace(use, id=f"{into}/{use.id}") for use in chain)
        name = f"Shared {chain[0].label}"
        made.append(Strip(into, name, "bus", inserts=copies, output=like.output, parent=like.parent))
    return made


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


def move_outboard(session: Session, plan: Plan, changed: Strips, warnings: list[str]) -> None:
    """Takes plugins out of the computer, as many as the device outside has room for, in the plan's order."""
    room = session.device.outboard
    for decision in plan.decisions:
        strip = changed.get(decision.strip)
        if decision.kind != "outboard" or strip is None:
            continue
        use = next((u for u in strip.uses() if u.id == decision.use), None)
        if use is None or not use.enabled:
            warnings.append(f"{strip.name}: what was to move outboard is not on it any more.")
            continue
        if room < 1:
            count = session.device.outboard
            warnings.append(f"{strip.name}: the outboard device has room for {count} plugins; {use.label} stays here.")
            continue
        room -= 1
        swap = {use.id: msgspec.structs.replace(use, enabled=False)}
        instrument = swap.get(strip.instrument.id, strip.instrument) if strip.instrument else None
        inserts = tuple(swap.get(each.id, each) for each in strip.inserts)
        changed[strip.id] = msgspec.structs.replace(strip, instrument=instrument, inserts=inserts)


def _decided(session: Session, plan: Plan) -> Iterator[tuple[Decision, Strip]]:
    """The decisions of a plan, each with the strip that it is about; those about strips that are gone are left out."""
    known = {strip.id: strip for strip in session.strips}
    for decision in plan.decisions:
        if decision.strip in known:
            yield decision, known[decision.strip]


def plan_traps(session: Session, plan: Plan) -> list[str]:
    """What to mind of the decisions themselves, whatever was measured: one sentence each."""
    found: list[str] = []
    known = {strip.id: strip for strip in session.strips}
    for decision, strip in _decided(session, plan):
        found.extend(_fader_traps(decision, strip))
        if decision.kind == "bounce":
            stays = (
                "its source stays, muted, and costs as before" if decision.muted else "keep its source, switched off"
            )
            found.append(f"{strip.name}: a bounce cannot be undone; {stays}.")
            if strip.volume not in (0.0, 1.0) and not strip.post_fader:
                level = 20 * math.log10(strip.volume)
                found.append(
                    f"{strip.name}: its fader stands at {level:+.1f} dB. Print before the fader, "
                    "or set the new track's to unity: else it counts twice."
                )
            heard = [known[send.target].name for send in strip.sends if send.enabled and send.target in known]
            if heard:
                found.append(
                    f"{strip.name}: {', '.join(heard)} still hear{'s' if len(heard) == 1 else ''} it by its sends; "
                    "print it without them, or they are heard twice."
                )
        whole = plan.for_strip(strip.id)
        if decision.use is not None and whole is not None and whole.kind in ("freeze", "bounce"):
            covered = whole.kind == "bounce" or whole.through is None
            place = next((p for p, use in strip.places() if use.id == decision.use), None)
            if place is not None and (covered or place <= (whole.through or 0)) and decision.kind != "share":
                label = next(use.label for use in strip.uses() if use.id == decision.use)
                found.append(
                    f"{strip.name}: what is decided about {label} has no effect while the {whole.kind} holds it: "
                    "two decisions exclude each other."
                )
    return found


def _fader_traps(decision: Decision, strip: Strip) -> Iterator[str]:
    """What to mind where a print takes in what comes after the fader."""
    last = len(strip.inserts) - 1 if decision.through is None else decision.through
    after = [use.label for use in strip.inserts[strip.last_before_fader + 1 : last + 1] if use.enabled]
    if not after or strip.kind != "track":
        return
    who = f"{strip.name}: {' and '.join(after)} come{'s' if len(after) == 1 else ''} after the fader"
    if decision.kind == "freeze":
        until = "the instrument" if strip.last_before_fader < 0 else f"insert {strip.last_before_fader + 1}"
        yield f"{who}; frozen too, the fader and its automation are frozen in. A freeze of {until} keeps them live."
    elif decision.kind == "bounce":
        yield f"{who}: the print holds the fader and its automation. Set the new track's to unity, without automation."


def tail_traps(session: Session, plan: Plan, cards: Cards) -> list[str]:
    """Where a tail, as measured, is longer than what a decision leaves to it."""
    found = []
    for decision, strip in _decided(session, plan):
        lasting = tail(strip, cards)
        last = max((clip.end for clip in strip.clips), default=0.0)
        if decision.kind in ("freeze", "bounce") and lasting > LONG_TAIL and last + lasting > session.length:
            found.append(
                f"{strip.name}: its tail of {lasting:.1f} s goes on after the end of the piece; "
                f"the {decision.kind} must be {last + lasting - session.length:.1f} s longer."
            )
        if decision.kind == "suspend" and lasting > session.host.tail_limit:
            found.append(
                f"{strip.name}: its tail of {lasting:.1f} s is longer than the {session.host.tail_limit:g} s "
                "that the host waits before it suspends: the end is cut."
            )
    return found
