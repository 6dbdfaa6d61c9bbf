"""What it would take: every decision that a strip allows, what each would save, and why the others are not possible."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from ..cards.card import EXACT_DB, NEAR_DB, Upkeep
from ..load.costs import figure
from ..piece.moments import union
from ..session.computer import deadline
from ..session.session import Session
from ..session.strips import Strip
from ..survey import Instant, Saving, Survey, instant, saving
from ..units import clock, decibels
from .alike import Group, groups, similar
from .plan import Decision, Plan, frozen_through, obstacle
from .regroup import bounce_range


class Option(NamedTuple):
    """One possible decision: `price` says what is given up; `reason` says why it is impossible, or is None.

    `others` are decisions about other strips that are taken with it.
    """

    decision: Decision
    title: str
    price: str
    reason: str | None
    others: tuple[Decision, ...] = ()


class Weighed(NamedTuple):
    """One option for the chosen strips: the decisions that it takes, what they would save, and whether all are taken.

    Without decisions the option is impossible for every one of them, and there is no saving. `worst` is what they save
    at the worst moment; `memory` (bytes) what their plugins would give back if they were unloaded.
    """

    option: Option
    decisions: tuple[Decision, ...]
    saving: Saving | None
    taken: bool
    worst: Saving | None = None
    memory: float = 0.0


def options(
    strip: Strip,
    session: Session | None = None,
    sharing: Sequence[Group] = (),
    stretch: tuple[float, float] | None = None,
) -> list[Option]:
    """Every decision about a strip, in a fixed order: live, freezes, suspend, disarm, off, bounce, then its plugins'.

    Lighter variants, outboard and sharing are known of a `session` and its `sharing` groups only. With a `stretch`
    (seconds) that part alone can be bounced.
    """
    found = [Option(Decision("live", strip.id), "Keep live", "nothing given up", None)]
    if strip.instrument is not None:
        alone = Decision("freeze", strip.id, through=-1)
        found.append(_option(strip, alone, "Freeze the instrument", _frozen(strip, -1), session))
    last = len(strip.inserts) - 1
    if 0 <= strip.last_before_fader < last:
        before = Decision("freeze", strip.id, through=strip.last_before_fader)
        found.append(_option(strip, before, "Freeze up to the fader", _frozen(strip, before.through or 0), session))
    title = f"Freeze through insert {last + 1}" if last >= 0 else "Freeze the chain"
    if last >= 0 or strip.instrument is None:
        whole = Decision("freeze", strip.id, through=last)
        found.append(_option(strip, whole, title, _frozen(strip, last), session))
    suspend, off, bounce = (Decision(kind, strip.id) for kind in ("suspend", "off", "bounce"))
    found.append(_option(strip, suspend, "Suspend while silent", "a long tail may be cut", session))
    if strip.armed:
        disarm = Decision("disarm", strip.id)
        found.append(_option(strip, disarm, "Disarm", "cannot be recorded meanwhile", session))
    found.append(_option(strip, off, "Switch off", "its sound; must come back before the render", session))
    title = "Bounce" if strip.kind == "track" else "Bounce all that feeds it"
    found.append(_option(strip, bounce, title, "for good; fader and sends stay live", session))
    if strip.instrument is not None and strip.inserts:
        alone = Decision("bounce", strip.id, through=-1)
        found.append(_option(strip, alone, "Bounce the instrument", "for good; all inserts stay live", session))
    if strip.kind == "track" and stretch is not None:
        part = Decision("bounce", strip.id, start=stretch[0], end=stretch[1])
        title = f"Bounce {clock(stretch[0])} to {clock(stretch[1])}"
        found.append(_option(strip, part, title, "that part for good, on a track of its own", session))
    return found + (_for_plugins(strip, session, sharing) if session is not None else [])


def _for_plugins(strip: Strip, session: Session, sharing: Sequence[Group]) -> list[Option]:
    """Sharing the end of the chain, lighter variants, and moving plugins outboard."""
    found = []
    for group in sharing:
        own = [d for d in group.decisions() if d.strip == strip.id]
        if own:
            others = tuple(d for d in group.decisions() if d.strip != strip.id)
            label = " and ".join(use.label for use in group.chain[-2:])
            title = f"Share {label} with {len(others)} more" if others else f"Share {label}"
            title += ", set alike" if group.differs else ""
            found.append(Option(own[0], title, _shared(group), None, others))
    for use in strip.uses():
        for variant in session.variants:
            if variant.of == use.card_key() and use.enabled:
                lighter = Decision("lighten", strip.id, use.id, variant=variant.name)
                found.append(
                    Option(lighter, f"Lighten {use.label}: {variant.name}", "another sound until restored", None)
                )
    if session.device.outboard:
        for use in strip.uses():
            if use.enabled:
                away = Decision("outboard", strip.id, use.id)
                found.append(Option(away, f"Move {use.label} outboard", "one round trip more latency", None))
    return found


def _shared(group: Group) -> str:
    """What sharing gives up, as measured."""
    if group.sends:
        return "what its sends feed will sound without it"
    if group.differs:
        return f"one setting for all: they differ in {', '.join(group.differs)}"
    if group.linear_db is None:
        return "not known whether it changes the sound: measure it"
    if group.linear_db <= EXACT_DB:
        return f"nothing: exact to {decibels(group.linear_db)}; one setting for all"
    if group.linear_db <= NEAR_DB:
        return f"nearly exact: {decibels(group.linear_db)} apart; one setting for all"
    return f"changes the sound: {decibels(group.linear_db)} apart"


def _option(strip: Strip, decision: Decision, title: str, price: str, session: Session | None) -> Option:
    return Option(decision, title, price, obstacle(strip, decision, session))


def freeze_seconds(strip: Strip) -> float:
    """How much audio a freeze writes: the length of the strip's clips, overlaps counted once, in seconds."""
    return sum(end - start for start, end in union((c.start, c.end) for c in strip.clips))


def freeze_bytes(strip: Strip, rate: int) -> float:
    """Disk space of a freeze as 32-bit float, in bytes (channels as wide as the chain's widest plugin)."""
    channels = max((use.channels for use in strip.uses()), default=2)
    return freeze_seconds(strip) * rate * channels * 4


def _frozen(strip: Strip, through: int) -> str:
    locked = "notes locked" if through < 0 else "locked until unfrozen"
    after = len(strip.inserts) - 1 - through
    return locked if after == 0 else f"{locked}; {after} insert{'s' if after > 1 else ''} stay live"


def render_seconds(of: Survey, strip: Strip, through: int) -> float:
    """How long this computer takes to render a strip up to a place: its plugins in the largest blocks, one core."""
    size, rate, cards = max(of.costs), of.session.rate, of.planned.cards
    inside = [use for place, use in strip.places() if place <= through and use.enabled]
    spent = sum(figure(cards, use.card_key(), rate, size, "sounding").seconds for use in inside)
    spent *= of.session.host.plugin_factor / of.machine.speed
    return freeze_seconds(strip) * spent / deadline(size, rate)


def _upkeeps(of: Survey, decision: Decision) -> list[Upkeep]:
    """What is known of the upkeep of each plugin that a decision takes out."""
    strip = of.session.strip(decision.strip)
    if decision.kind not in ("freeze", "off", "bounce"):
        return []
    if decision.start is not None or decision.muted:
        return []  # outside the stretch, or muted, its plugins still play
    through = len(strip.inserts) if decision.kind == "off" else frozen_through(strip, decision)
    inside = [u for p, u in strip.places() if (p <= through if decision.use is None else u.id == decision.use)]
    cards = (of.planned.cards.get(use.card_key()) for use in inside)
    return [card.upkeep for card in cards if card is not None and card.upkeep is not None]


def memory_of(of: Survey, decision: Decision) -> float:
    """The bytes that the plugins would give back which a decision takes out, as far as they were measured."""
    return float(sum(upkeep.memory for upkeep in _upkeeps(of, decision)))


class Given(NamedTuple):
    """What the unloaded plugins of a plan give back: bytes, and seconds to load them again, as far as measured."""

    memory: float
    seconds: float


def given_back(of: Survey) -> Given:
    """The memory that the plan's unloaded freezes give back, and how long their plugins take to load again."""
    upkeeps = [u for decision in of.plan.decisions if decision.unloaded for u in _upkeeps(of, decision)]
    return Given(float(sum(u.memory for u in upkeeps)), float(sum(u.load for u in upkeeps)))


def weigh(
    of: Survey, at: Instant, strip_ids: Sequence[str], stretch: tuple[float, float] | None = None
) -> list[Weighed]:
    """Every option of the chosen strips with its saving. For several strips, those options that they share by title.

    Strips that only the plan has made have none.
    """
    known = {strip.id for strip in of.session.strips}
    sharing = groups(of.session, of.planned.cards) + similar(of.session, of.planned.cards)
    each = [options(of.session.strip(s), of.session, sharing, stretch) for s in strip_ids if s in known]
    if not each:
        return []
    worst = at if at.moment == of.after.worst else instant(of)
    if len(each) == 1:
        return [_weighed(of, at, worst, [option]) for option in each[0]]
    grouped: dict[str, list[Option]] = {}
    for found in each:
        for option in found:
            title = "Freeze the whole chain" if option.title.startswith("Freeze through") else option.title
            grouped.setdefault(title, []).append(option._replace(title=title))
    return [_weighed(of, at, worst, group) for group in grouped.values()]


def _weighed(of: Survey, at: Instant, worst: Instant, group: list[Option]) -> Weighed:
    """One option for all strips of a group: possible if it is for at least one of them."""
    possible = [option for option in group if option.reason is None]
    first = possible[0] if possible else group[0]
    decisions = tuple(dict.fromkeys(d for option in possible for d in (option.decision, *option.others)))
    first = first._replace(price=first.price + _rendering(of, [option.decision for option in possible]))
    if 0 < len(possible) < len(group):
        first = first._replace(price=f"{first.price}; possible for {len(possible)} of {len(group)}")
    if not decisions:
        return Weighed(first, (), None, False)
    taken = all(_is_taken(of.session, of.plan, decision) for decision in decisions)
    here = saving(of, at, decisions)
    there = here if worst is at else saving(of, worst, decisions)
    return Weighed(first, decisions, here, taken, there, sum(memory_of(of, d) for d in decisions))


def _rendering(of: Survey, decisions: Sequence[Decision]) -> str:
    """The disk space and the time that freezes and bounces take, in words; nothing for other decisions."""
    size = seconds = 0.0
    for decision in decisions:
        strip = of.session.strip(decision.strip)
        if decision.kind in ("freeze", "bounce") and strip.clips:
            through = frozen_through(strip, decision)
            if decision.start is not None and decision.end is not None:
                part = bounce_range(strip, decision.start, decision.end)[1]
                strip = msgspec.structs.replace(strip, clips=part.clips)
            size += freeze_bytes(strip, of.session.rate)
            seconds += render_seconds(of, strip, through)
    return f"; {size / 1e6:.0f} MB, {max(seconds, 1):.0f} s to render" if size else ""


def _is_taken(session: Session, plan: Plan, decision: Decision) -> bool:
    if decision.use is not None:
        return decision in plan.decisions
    current = plan.for_strip(decision.strip)
    if current is None or current.kind != decision.kind:
        return current is None and decision.kind == "live"
    if decision.kind == "bounce":
        return msgspec.structs.replace(current, muted=decision.muted) == decision
    strip = session.strip(decision.strip)
    return decision.kind != "freeze" or frozen_through(strip, current) == frozen_through(strip, decision)
