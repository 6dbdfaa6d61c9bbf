"""The session that a plan makes of a session, and what to mind."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property

import msgspec

from ..cards.card import Cards
from ..session.routing import edges
from ..session.session import Session
from ..session.strips import Strip
from .bounce import Bounce
from .decision import Decision, DecisionKind, Plan
from .disarm import Disarm
from .freeze import Freeze
from .kind import Kind, Work
from .lighten import Lighten
from .live import Live
from .off import Off
from .outboard import Outboard
from .price import Price, Terms, total
from .rendering import last_place
from .share import Share
from .suspend import Suspend

# Every kind, in the order in which a plan is carried out: strips on their own first, then what reaches beyond.
KINDS: dict[DecisionKind, Kind] = {
    "live": Live(), "disarm": Disarm(), "suspend": Suspend(), "freeze": Freeze(), "bounce": Bounce(), "off": Off(),
    "lighten": Lighten(), "share": Share(), "outboard": Outboard(),
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Applied:
    """What a plan makes of a session, and how to tell what to mind in it."""

    session: Session
    tell: Callable[[], list[str]]

    @cached_property
    def warnings(self) -> tuple[str, ...]:
        """What to mind: each is a sentence that names the strip it is about. They are found when they are asked for."""
        return tuple(self.tell())


def apply(session: Session, plan: Plan) -> Applied:
    """A new session with the plan carried out, and what to mind. A decision that cannot be taken is left out.

    The order of the decisions makes no difference, but that the first ones get the room of an outboard device.
    """
    if not plan.decisions:
        return Applied(session, list)
    known = {strip.id: strip for strip in session.strips}
    work = Work(session, plan, dict(known), [], [])
    taken: dict[DecisionKind, list[Decision]] = {}
    for decision in sorted(plan.decisions, key=lambda d: (d.use is not None, d.strip, d.use or "")):
        strip = known.get(decision.strip)
        if strip is None:
            work.warnings.append(f"The plan speaks of a strip that is not in this session: {decision.strip}.")
            continue
        reason = obstacle(strip, decision, session)
        if reason is not None:
            work.warnings.append(f"{strip.name}: {reason}")
            continue
        taken.setdefault(decision.kind, []).append(decision)
    # What a freeze or bounce holds is in its file as it is in the session.
    held = _holders(known, plan, [*taken.get("freeze", ()), *taken.get("bounce", ())])
    for name, kind in KINDS.items():
        kind.carry_out(work, [decision for decision in taken.get(name, ()) if decision not in held])
    after = msgspec.structs.replace(session, strips=(*(work.changed[s.id] for s in session.strips), *work.added))
    everything = {decision for each in taken.values() for decision in each}

    def tell() -> list[str]:
        found = list(work.warnings)
        for decision in (d for d in plan.decisions if d in everything):
            strip = known[decision.strip]
            holder = held.get(decision)
            traps = [_held(decision, holder, strip)] if holder else KINDS[decision.kind].traps(decision, strip, work)
            found += [f"{strip.name}: {trap}" for trap in traps]
        return found + session_traps(after)

    return Applied(after, tell)


def obstacle(strip: Strip, decision: Decision, session: Session) -> str | None:
    """Why this decision cannot be taken on this strip, as a sentence; None if it can."""
    if decision.use is not None and all(use.id != decision.use for use in strip.uses()):
        return f"the plan speaks of a plugin that is not on it: {decision.use}."
    return KINDS[decision.kind].obstacle(strip, decision, session)


def price(terms: Terms, *decisions: Decision) -> Price:
    """What decisions cost together: what is paid once is counted once."""
    known = {strip.id for strip in terms.session.strips}
    return total(KINDS[d.kind].price(terms, d) for d in decisions if d.strip in known)


def told_as(session: Session, decision: Decision) -> str:
    """A decision in words: what it does to which track."""
    return KINDS[decision.kind].words(session, decision)


def without_effect(session: Session, plan: Plan) -> tuple[Decision, ...]:
    """The decisions of a plan that change nothing, since a freeze or bounce of the whole strip holds their plugins."""
    known = {strip.id: strip for strip in session.strips}
    files = (d for d in plan.decisions if d.kind in ("freeze", "bounce") and d.strip in known)
    return tuple(_holders(known, plan, [d for d in files if obstacle(known[d.strip], d, session) is None]))


def _holders(known: Mapping[str, Strip], plan: Plan, files: Iterable[Decision]) -> dict[Decision, Decision]:
    """For each decision about a plugin that a freeze or bounce of the whole strip holds, that one; `files` are all that
    can be taken."""
    # Where a stretch is bounced, plugins play on in all others.
    holds = {d.strip: d for d in files if d.use is None and d.start is None}
    found = {}
    for decision in plan.decisions:
        holder = holds.get(decision.strip)
        if holder is None or decision.use is None or decision.kind == "share":
            continue
        strip = known[decision.strip]
        is_all = holder.kind == "bounce" and holder.through is None
        through = len(strip.inserts) if is_all else last_place(strip, holder)
        if any(use.id == decision.use for place, use in strip.places() if place <= through):
            found[decision] = holder
    return found


def _held(decision: Decision, holder: Decision, strip: Strip) -> str:
    """That what is decided about a plugin has no effect."""
    label = next(use.label for use in strip.uses() if use.id == decision.use)
    held = f"has no effect while the {holder.kind} holds it: two decisions exclude each other."
    return f"what is decided about {label} {held}"


def session_traps(session: Session) -> list[str]:
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


def tail_traps(session: Session, plan: Plan, cards: Cards) -> list[str]:
    """Where a tail, as measured, is longer than what a decision leaves to it."""
    known = {strip.id: strip for strip in session.strips}
    found = []
    for decision in plan.decisions:
        strip = known.get(decision.strip)
        if strip is not None:
            kind = KINDS[decision.kind]
            found += [f"{strip.name}: {trap}" for trap in kind.tail_traps(strip, session, cards)]
    return found
