"""A session taken in again from a newer export of its mix: what was decided and set here goes on for what is the same.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import msgspec

from ..session.edits import checked
from ..session.matching import Same, same_in
from ..session.plugins import CardKey, PluginUse, Variant
from ..session.session import Session, SessionError
from ..session.strips import Send, Strip
from .after_edit import after_edit
from .apply import apply, obstacle
from .decision import Decision, KeptPlan, Plan
from .kind import named_use, with_uses

# What begins the id of what is new while everything has the ids of before.
NEW = "new/"


class Renewed(NamedTuple):
    """The newer session with the plan, and the plans put by, as far as they go on. `done` are the decisions of the plan
    (in the session before) that the newer one has carried out; `lost` those that do not go on: what they spoke of is
    gone, or the lighter setting does not fit the plugin as it is set now."""

    session: Session
    plan: Plan
    kept: tuple[KeptPlan, ...]
    same: Same
    done: tuple[Decision, ...]
    lost: tuple[Decision, ...]


def renewed(before: Session, after: Session, plan: Plan, kept: Sequence[KeptPlan] = ()) -> Renewed:
    """Takes a newer session in place of the one before.

    From the newer one comes all that exchange files say: tracks, plugins, routing, clips, tempo. From the one before
    comes what they do not: host, device and limit, lighter settings, which inserts stand after the fader, where sends
    leave the chain, side-chains, what is record-armed, of which family plugins are; and the plan, its ids as they are
    now.
    """
    same = same_in(before, after)
    known = _with_what_was(before, after, same)
    was, now = before.uses_by_id(), known.uses_by_id()
    kinds: dict[CardKey, set[CardKey]] = {}
    for old, new in same.uses.items():
        kinds.setdefault(was[old].card_key(), set()).add(now[new].card_key())
    settings = {use.card_key(): use for use in (*was.values(), *now.values())}
    variants = [
        made for each in before.variants for key in sorted(kinds.get(each.of, ()))
        if (made := _fitting(each, settings[each.of], settings[key])) is not None
    ]  # fmt: skip
    session = msgspec.structs.replace(
        known, host=before.host, device=before.device, limit=before.limit,
        variants=tuple({(each.of, each.name): each for each in variants}.values()),
    )  # fmt: skip
    with_old_ids = _with_ids_of_before(session, same)
    # A plugin may have gone to a track that is new.
    ids = Same({**{f"{NEW}{strip.id}": strip.id for strip in after.strips}, **same.strips}, same.uses)
    lighter = {(each.of, each.name) for each in session.variants}

    def carried(of: Plan) -> tuple[Plan, tuple[Decision, ...], tuple[Decision, ...]]:
        left = after_edit(of, before, with_old_ids)
        there = [
            each for each in left.decisions
            if each.kind != "lighten" or (now[same.uses[each.use or ""]].card_key(), each.variant) in lighter
        ]  # fmt: skip
        missing = [each for each in of.decisions if not _is_among(each, there)]
        shared = [each for each in missing if _is_shared(each, before, after, same)]
        idle = [each for each in there if _is_carried_out(_now(each, ids), session)]
        there = [each for each in there if each not in idle]
        done = tuple(each for each in of.decisions if each in shared or _is_among(each, idle))
        lost = tuple(each for each in missing if each not in shared)
        standing = {
            field: tuple(ids.strips[each] for each in getattr(left, field)) for field in ("pinned", "done", "in_work")
        }
        made = msgspec.structs.replace(left, decisions=tuple(_now(each, ids) for each in there), **standing)
        return made, done, lost

    going_on, done, lost = carried(plan)
    others = tuple(msgspec.structs.replace(each, plan=carried(each.plan)[0]) for each in kept)
    left = tuple(each for each in session.variants if settings[each.of].setting != each.setting)
    return Renewed(msgspec.structs.replace(session, variants=left), going_on, others, same, done, lost)


def _is_among(decision: Decision, others: Sequence[Decision]) -> bool:
    """Whether one of these is about the same; what is decided of a plugin may have gone with it to another track."""
    moved = decision.kind, decision.use or ""
    return any(each.subject == decision.subject or (each.kind, each.use) == moved for each in others)


def _is_carried_out(decision: Decision, session: Session) -> bool:
    """Whether a session is by now as a decision would have it: nothing is left for it to do."""
    if decision.kind == "share":
        return False  # by itself it does nothing: see `_is_shared`
    strip = session.strip(decision.strip)
    frozen = decision.kind == "freeze" and strip.frozen_through is not None
    cut_out = decision.kind == "bounce" and decision.stretch is not None
    rests = decision.kind == "suspend" and strip.suspended
    if obstacle(strip, decision, session) is not None:
        return frozen or cut_out or rests

    def runs(of: Strip) -> tuple[object, ...]:
        return of.live_uses(), of.armed, of.enabled, of.suspended, of.output

    made = apply(session, Plan((decision,))).session.strips
    if len(made) != len(session.strips):
        return False
    changed = [(one, other) for one, other in zip(session.strips, made, strict=True) if one is not other]
    return all(runs(one) == runs(other) for one, other in changed)


def _is_shared(decision: Decision, before: Session, after: Session, same: Same) -> bool:
    """Whether a track feeds a new bus by now, on which the plugin is that it was to share."""
    if decision.kind != "share" or decision.strip not in same.strips:
        return False
    shared = named_use(before.strip(decision.strip), decision.use)
    output = after.strip(same.strips[decision.strip]).output
    bus = next((strip for strip in after.strips if strip.id == output), None)
    return (
        bus is not None and shared is not None and bus.id not in same.strips.values()
        and any(use.plugin.identifier == shared.plugin.identifier for use in bus.uses())
    )  # fmt: skip


def _fitting(variant: Variant, was: PluginUse, now: PluginUse) -> Variant | None:
    """A lighter setting for a plugin as it is set now: what it changed of the setting before it changes of this one.
    None where a saved state holds the settings, which cannot be taken apart, and another one came in its place."""
    if now.setting in (was.setting, variant.setting):
        return msgspec.structs.replace(variant, of=now.card_key())
    if any(each.state is not None for each in (variant.setting, was.setting, now.setting)):
        return None
    old = dict(was.setting.values)
    changed = {name: value for name, value in variant.setting.values if old.get(name) != value}
    values = tuple((dict(now.setting.values) | changed).items())
    setting = msgspec.structs.replace(now.setting, values=values)
    return msgspec.structs.replace(variant, of=now.card_key(), setting=setting)


def _with_what_was(before: Session, after: Session, same: Same) -> Session:
    """The newer session with what exchange files do not say of its strips, as it was."""
    strips = {same.strips[strip.id]: strip for strip in before.strips if strip.id in same.strips}
    uses = {same.uses[use.id]: use for use in before.uses_by_id().values() if use.id in same.uses}

    def listening(strip: Strip) -> Strip:
        """A strip whose plugins listen to what they listened to."""
        return with_uses(strip, {
            use.id: msgspec.structs.replace(use, sidechain=same.strips.get(uses[use.id].sidechain or ""))
            for use in strip.uses() if use.sidechain is None and use.id in uses
        })  # fmt: skip

    def as_it_was(strip: Strip) -> Strip:
        families = {
            use.id: msgspec.structs.replace(use, family=uses[use.id].family)
            for use in strip.uses() if use.family == "other" and use.id in uses
        }  # fmt: skip
        was, strip = strips.get(strip.id), with_uses(strip, families)
        if was is None:
            return strip
        return msgspec.structs.replace(
            strip, armed=was.armed or strip.armed, post_fader=strip.post_fader or _after_fader(was, strip, same),
            sends=tuple(_leaving(was, strip, send, same) for send in strip.sends),
        )  # fmt: skip

    known = msgspec.structs.replace(after, strips=tuple(map(as_it_was, after.strips)))
    heard = msgspec.structs.replace(known, strips=tuple(map(listening, known.strips)))
    try:
        return checked(heard)
    except SessionError:
        return known  # as it is routed now, a plugin would listen to what it feeds


def _after_fader(was: Strip, now: Strip, same: Same) -> int:
    """How many of a strip's last inserts come after its fader: those that did."""
    behind = {same.uses.get(use.id) for use in was.inserts[was.last_before_fader + 1 :]} if was.post_fader else set()
    after = 0
    while after < len(now.inserts) and now.inserts[-after - 1].id in behind:
        after += 1
    return after


def _leaving(was: Strip, now: Strip, send: Send, same: Same) -> Send:
    """A send that leaves behind the insert behind which it left; at the end where that is gone."""
    old = next((each for each in was.sends if same.strips.get(each.target) == send.target), None)
    if send.after is not None or old is None or old.after is None:
        return send
    places = {use.id: place for place, use in enumerate(now.inserts)}
    behind = was.inserts[old.after].id if 0 <= old.after < len(was.inserts) else ""
    place = old.after if old.after < 0 else places.get(same.uses.get(behind, ""))
    return msgspec.structs.replace(send, after=place)


def _with_ids_of_before(session: Session, same: Same) -> Session:
    """The newer session with the ids that the same things had before; what is new has ids that nothing had."""
    strips, uses = ({new: old for old, new in each.items()} for each in same)

    def named(strip: Strip) -> Strip:
        renamed = {
            use.id: msgspec.structs.replace(use, id=uses.get(use.id, f"{NEW}{use.id}")) for use in strip.uses()
        }
        return msgspec.structs.replace(with_uses(strip, renamed), id=strips.get(strip.id, f"{NEW}{strip.id}"))

    return msgspec.structs.replace(session, strips=tuple(map(named, session.strips)))


def _now(decision: Decision, same: Same) -> Decision:
    """A decision with the ids of now; it speaks of nothing that is gone."""

    def named(known: Mapping[str, str], old: str | None) -> str | None:
        return known.get(old, old) if old is not None else None

    into = decision.into
    if into is not None:
        kind, mark, first = into.partition("/")
        into = f"{kind}{mark}{same.uses.get(first, first)}"
    return msgspec.structs.replace(
        decision, strip=same.strips.get(decision.strip, decision.strip), use=named(same.uses, decision.use),
        like=named(same.uses, decision.like), into=into,
    )  # fmt: skip
