"""Decisions, plans, and the session that a plan makes of a session."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, NamedTuple

import msgspec

from ..session.plugins import PluginUse, Variant
from ..session.routing import edges
from ..session.session import Session
from ..session.strips import Strip
from .regroup import bounce_group, bounce_range, group_of, move_outboard, muted_source, plan_traps, printed, share

DecisionKind = Literal["live", "off", "freeze", "suspend", "lighten", "disarm", "share", "bounce", "outboard"]


DONE = {"freeze": "frozen", "bounce": "bounced"}


class Decision(msgspec.Struct, frozen=True):
    """One thing to do to one strip, or to one plugin on it.

    *live*: stays as it is. *off*: switched off, the whole strip or the plugin `use`. *freeze*: the strip is rendered
    up to the place `through` of its chain (-1: the source alone; None: the whole chain). *suspend*: the strip costs
    nothing while it is silent. *lighten*: the plugin `use` takes the session's `variant` of that name. *disarm*: the
    strip is no longer record-armed. *share*: the plugin `use` and all after it move to the bus `into`, which all strips
    that share with it feed; in the setting of the plugin `like`, if one is named. *bounce*: the strip is printed to new
    audio, for good, up to the place `through`, or only from `start` to `end` (seconds), which goes to a track of its
    own; a bus with all that feeds only it. *outboard*: the plugin `use` runs on a device outside the computer.

    A freeze may have its plugins `unloaded`: they give their memory back, and load again when it is undone. The source
    of a bounced track is switched off, or stays `muted`, and then costs what it did.
    """

    kind: DecisionKind
    strip: str
    use: str | None = None
    through: int | None = None
    variant: str | None = None
    into: str | None = None
    start: float | None = None
    end: float | None = None
    like: str | None = None
    unloaded: bool = False
    muted: bool = False

    @property
    def subject(self) -> tuple[str, str | None]:
        """What it is about; a plan holds at most one decision for each subject."""
        return (self.strip, self.use)


class Plan(msgspec.Struct, frozen=True):
    """An ordered set of decisions, at most one for each strip and one for each plugin.

    `pinned` are the ids of strips that a suggestion leaves as they are; `put_back` the lines of the restore list that
    are done.
    """

    decisions: tuple[Decision, ...] = ()
    pinned: tuple[str, ...] = ()
    put_back: tuple[str, ...] = ()

    def decide(self, decision: Decision) -> Plan:
        """The plan with this decision in place of the earlier one on the same subject; *live* only removes it."""
        others = tuple(d for d in self.decisions if d.subject != decision.subject)
        made = others if decision.kind == "live" else (*others, decision)
        return msgspec.structs.replace(self, decisions=made)

    def replaced(self, old: Decision, new: Decision) -> Plan:
        """The plan with one decision in the place of another one about the same."""
        return msgspec.structs.replace(self, decisions=tuple(new if d == old else d for d in self.decisions))

    def without(self, *decisions: Decision) -> Plan:
        """The plan without these decisions."""
        return msgspec.structs.replace(self, decisions=tuple(d for d in self.decisions if d not in decisions))

    def pin(self, strip_ids: Iterable[str], on: bool) -> Plan:
        """The plan with these strips pinned, or let go."""
        ids = set(strip_ids)
        kept = tuple(strip for strip in self.pinned if strip not in ids)
        return msgspec.structs.replace(self, pinned=(*kept, *sorted(ids)) if on else kept)

    def steps(self) -> list[tuple[Decision, ...]]:
        """The decisions in their order, those that share one bus together."""
        together: dict[tuple[str | None, ...], list[Decision]] = {}
        for decision in self.decisions:
            together.setdefault((decision.into,) if decision.into else decision.subject, []).append(decision)
        return [tuple(decisions) for decisions in together.values()]

    def moved(self, step: int, by: int) -> Plan:
        """The plan with one of its steps so many places later (earlier if negative).

        It does the same, but that the first ones get the room of an outboard device. IndexError if there is no such
        step or place.
        """
        steps = self.steps()
        if not (0 <= step < len(steps) and 0 <= step + by < len(steps)):
            raise IndexError(f"the plan has {len(steps)} steps: step {step + 1} cannot move by {by}")
        steps.insert(step + by, steps.pop(step))
        return msgspec.structs.replace(self, decisions=tuple(decision for each in steps for decision in each))

    def for_strip(self, strip_id: str) -> Decision | None:
        """The decision about the strip as a whole, if there is one."""
        return next((d for d in self.decisions if d.subject == (strip_id, None)), None)


class KeptPlan(msgspec.Struct, frozen=True):
    """A plan put by under a name with the buffer size that it is for: one for tracking, one for mixing."""

    name: str
    plan: Plan
    buffer: int


class Applied(NamedTuple):
    """What a plan makes of a session; each warning is a sentence that names the strip it is about."""

    session: Session
    warnings: tuple[str, ...]


def apply(session: Session, plan: Plan) -> Applied:
    """A new session with the plan carried out, and what to mind. A decision that cannot be taken is left out.

    The order of the decisions makes no difference: the strips are changed on their own, and whole strips first.
    """
    if not plan.decisions:
        return Applied(session, ())
    changed = {strip.id: strip for strip in session.strips}
    warnings: list[str] = []
    taken: list[Decision] = []
    printed_parts: list[Strip] = []
    for decision in sorted(plan.decisions, key=lambda d: (d.use is not None, d.strip, d.use or "")):
        strip = changed.get(decision.strip)
        if strip is None:
            warnings.append(f"The plan speaks of a strip that is not in this session: {decision.strip}.")
            continue
        reason = obstacle(session.strip(decision.strip), decision, session)
        if reason is not None:
            warnings.append(f"{strip.name}: {reason}")
            continue
        taken.append(decision)
        if decision.kind == "bounce" and strip.kind != "track":
            bounce_group(session, strip.id, changed)
        elif decision.start is not None and decision.end is not None:
            changed[strip.id], part = bounce_range(strip, decision.start, decision.end)
            printed_parts.append(part)
        elif decision.kind not in ("share", "outboard"):
            changed[strip.id] = _changed(strip, decision, session)
            if decision.kind == "bounce" and decision.muted:
                printed_parts.append(muted_source(strip))
    buses = share(session, plan, changed, warnings)
    move_outboard(session, plan, changed, warnings)
    strips = (*(changed[s.id] for s in session.strips), *buses, *printed_parts)
    after = msgspec.structs.replace(session, strips=strips)
    warnings.extend(plan_traps(session, Plan(tuple(taken))))
    warnings.extend(traps(after))
    return Applied(after, tuple(warnings))


def frozen_through(strip: Strip, decision: Decision) -> int:
    """The last place that a freeze takes in: the one it names, else the end of the chain."""
    return len(strip.inserts) - 1 if decision.through is None else decision.through


def _changed(strip: Strip, decision: Decision, session: Session) -> Strip:
    if decision.kind == "suspend":
        return msgspec.structs.replace(strip, suspended=True)
    if decision.kind == "disarm":
        return msgspec.structs.replace(strip, armed=False)
    if decision.kind == "lighten":
        return _lightened(strip, decision, session)
    if decision.kind == "bounce":
        return printed(strip, decision.through)
    if decision.kind == "freeze":
        return msgspec.structs.replace(strip, frozen_through=frozen_through(strip, decision))
    if decision.use is None:
        return msgspec.structs.replace(strip, enabled=False)
    if strip.instrument is not None and strip.instrument.id == decision.use:
        return msgspec.structs.replace(strip, instrument=_bypassed(strip.instrument))
    inserts = tuple(_bypassed(use) if use.id == decision.use else use for use in strip.inserts)
    return msgspec.structs.replace(strip, inserts=inserts)


def variant_named(session: Session, use: PluginUse, name: str | None) -> Variant | None:
    """The session's variant of that name for the card of this use."""
    return next((v for v in session.variants if v.of == use.card_key() and v.name == name), None)


def _lightened(strip: Strip, decision: Decision, session: Session) -> Strip:
    def lighter(use: PluginUse) -> PluginUse:
        variant = variant_named(session, use, decision.variant) if use.id == decision.use else None
        return variant.applied(use) if variant is not None else use

    instrument = lighter(strip.instrument) if strip.instrument is not None else None
    return msgspec.structs.replace(strip, instrument=instrument, inserts=tuple(lighter(u) for u in strip.inserts))


def _bypassed(use: PluginUse) -> PluginUse:
    return msgspec.structs.replace(use, enabled=False)


def obstacle(strip: Strip, decision: Decision, session: Session | None = None) -> str | None:
    """Why this decision cannot be taken on this strip, as a sentence; None if it can.

    Whether a variant exists is asked only of a `session` that is given.
    """
    if decision.use is not None and all(use.id != decision.use for use in strip.uses()):
        return f"the plan speaks of a plugin that is not on it: {decision.use}."
    if decision.kind == "off":
        if decision.use is None and strip.kind == "main":
            return "the main output cannot be switched off."
        return None
    if decision.kind == "suspend":
        if strip.armed:
            return "it is record-armed: it is never silent for certain."
        return None if strip.uses() else "it has no plugins, so there is nothing to suspend."
    if decision.kind == "disarm":
        return None if strip.armed else "it is not armed."
    if decision.kind == "lighten":
        use = next((u for u in strip.uses() if u.id == decision.use), None)
        if use is None:
            return "lightening is for one plugin; the plan names none."
        if session is not None and variant_named(session, use, decision.variant) is None:
            return f"{use.label} has no lighter setting named {decision.variant!r} in this session."
        return None
    if decision.kind in ("share", "outboard"):
        if decision.use is None:
            return f"to {decision.kind} is for a plugin; the plan names none."
        return None
    if decision.kind == "bounce" and strip.kind in ("bus", "return"):
        inside, reason = group_of(session, strip.id) if session is not None else (["?"], None)
        return reason if inside else "nothing feeds it, so there is nothing to print."
    if decision.kind not in ("freeze", "bounce"):
        return None
    if decision.use is not None:
        return f"a {decision.kind} is for a track, not for one plugin alone."
    if strip.kind != "track":
        return f"only a track can be {DONE[decision.kind]}; it has a source of its own."
    if strip.armed:
        return "it is record-armed: its input is still to come, so there is nothing to render. Disarm it first."
    if not strip.clips:
        return "it has no clips, so there is nothing to render."
    if not strip.uses():
        return f"it has no plugins, so a {decision.kind} would save nothing."
    if decision.start is not None and not any(
        c.start < (decision.end or 0.0) and c.end > decision.start for c in strip.clips
    ):
        return "it has no clips in this stretch, so there is nothing to print."
    first = -1 if strip.instrument else 0
    if decision.through is not None and not first <= decision.through < len(strip.inserts):
        return f"it has no place {decision.through + 1} in its chain to freeze up to."
    return None


def traps(session: Session) -> list[str]:
    """What to mind in a session that has been planned: one sentence for each trap."""
    strips = {strip.id: strip for strip in session.strips}
    found = []
    for strip in session.strips:
        for place, use in strip.places():
            if strip.is_frozen(place) and use.enabled and use.sidechain in strips:
                source = strips[use.sidechain]
                found.append(
                    f"{strip.name}: the side-chain of {use.label} from {source.name} is frozen with it; "
                    "later changes there are no longer heard here."
                )
    fed = {target for _, target in edges(_without_silent(session))}
    for i, strip in enumerate(session.strips):
        if strip.kind in ("bus", "return") and strip.enabled and i not in fed and strip.live_uses():
            found.append(f"{strip.name}: nothing feeds it any more, but its plugins still cost.")
    return found


def _without_silent(session: Session) -> Session:
    """The session in which strips that are off feed nothing."""
    strips = tuple(s if s.enabled else msgspec.structs.replace(s, output=None, sends=()) for s in session.strips)
    return msgspec.structs.replace(session, strips=strips)
