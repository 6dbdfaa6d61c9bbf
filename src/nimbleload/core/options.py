"""What it would take: every decision that a strip allows, what each would save, and why the others are not possible."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from .moments import union
from .plan import Decision, Plan, frozen_through, obstacle
from .session import Session, Strip
from .survey import Instant, Saving, Survey, saving


class Option(NamedTuple):
    """One possible decision: `price` says what is given up; `reason` says why it is impossible, or is None."""

    decision: Decision
    title: str
    price: str
    reason: str | None


class Weighed(NamedTuple):
    """One option for the chosen strips: the decisions that it takes, what they would save, and whether all are taken.

    Without decisions the option is impossible for every one of them, and there is no saving.
    """

    option: Option
    decisions: tuple[Decision, ...]
    saving: Saving | None
    taken: bool


def options(strip: Strip) -> list[Option]:
    """Every decision about a strip, in a fixed order: live, freeze (source alone, whole chain), suspend, off."""
    found = [Option(Decision("live", strip.id), "Keep live", "nothing given up", None)]
    if strip.instrument is not None:
        alone = Decision("freeze", strip.id, through=-1)
        found.append(_option(strip, alone, "Freeze the instrument", _frozen(strip, -1)))
    last = len(strip.inserts) - 1
    title = f"Freeze through insert {last + 1}" if last >= 0 else "Freeze the chain"
    if last >= 0 or strip.instrument is None:
        found.append(_option(strip, Decision("freeze", strip.id, through=last), title, _frozen(strip, last)))
    found.append(_option(strip, Decision("suspend", strip.id), "Suspend while silent", "a long tail may be cut"))
    if strip.armed:
        found.append(_option(strip, Decision("disarm", strip.id), "Disarm", "cannot be recorded meanwhile"))
    found.append(_option(strip, Decision("off", strip.id), "Switch off", "its sound; must come back before the render"))
    return found


def _option(strip: Strip, decision: Decision, title: str, price: str) -> Option:
    return Option(decision, title, price, obstacle(strip, decision))


def freeze_seconds(strip: Strip) -> float:
    """How much audio a freeze writes: the length of the strip's clips, overlaps counted once, in seconds."""
    return sum(end - start for start, end in union((c.start, c.end) for c in strip.clips))


def freeze_bytes(strip: Strip, rate: int) -> float:
    """Disk space of a freeze as 32-bit float, in bytes (channels as wide as the chain's widest plugin)."""
    channels = max((use.channels for use in strip.uses()), default=2)
    return freeze_seconds(strip) * rate * channels * 4


def _frozen(strip: Strip, through: int) -> str:
    locked = "notes locked" if through < 0 else "sound locked until unfrozen"
    after = len(strip.inserts) - 1 - through
    return locked if after == 0 else f"{locked}; {after} insert{'s' if after > 1 else ''} stay live"


def weigh(of: Survey, at: Instant, strip_ids: Sequence[str]) -> list[Weighed]:
    """Every option of the chosen strips with its saving. For several strips, those options that they share by title."""
    if not strip_ids:
        return []
    each = [options(of.session.strip(strip_id)) for strip_id in strip_ids]
    if len(each) == 1:
        return [_weighed(of, at, [option]) for option in each[0]]
    grouped: dict[str, list[Option]] = {}
    for found in each:
        for option in found:
            title = "Freeze the whole chain" if option.title.startswith("Freeze through") else option.title
            grouped.setdefault(title, []).append(option._replace(title=title))
    return [_weighed(of, at, group) for group in grouped.values()]


def _weighed(of: Survey, at: Instant, group: list[Option]) -> Weighed:
    """One option for all strips of a group: possible if it is for at least one of them."""
    possible = [option for option in group if option.reason is None]
    first = possible[0] if possible else group[0]
    if 0 < len(possible) < len(group):
        first = first._replace(price=f"{first.price}; possible for {len(possible)} of {len(group)}")
    decisions = tuple(option.decision for option in possible)
    taken = bool(decisions) and all(_is_taken(of.session, of.plan, decision) for decision in decisions)
    return Weighed(first, decisions, saving(of, at, decisions) if decisions else None, taken)


def _is_taken(session: Session, plan: Plan, decision: Decision) -> bool:
    current = plan.for_strip(decision.strip)
    if current is None or current.kind != decision.kind:
        return current is None and decision.kind == "live"
    strip = session.strip(decision.strip)
    return decision.kind != "freeze" or frozen_through(strip, current) == frozen_through(strip, decision)
