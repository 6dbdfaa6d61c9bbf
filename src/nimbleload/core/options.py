"""What it would take: every decision that a strip allows, what each would save, and why the others are not possible."""

from __future__ import annotations

from typing import NamedTuple

from .load import Prepared, block_at, prepare
from .moments import union
from .plan import Decision, Plan, apply, obstacle
from .session import Machine, Session, Strip, deadline


class Option(NamedTuple):
    """One possible decision: `price` says what is given up; `reason` says why it is impossible, or is None."""

    decision: Decision
    title: str
    price: str
    reason: str | None


class Saving(NamedTuple):
    """What a decision saves at one moment, both as fractions: of the deadline (load), and of one core (work)."""

    load: float
    work: float


def options(strip: Strip) -> list[Option]:
    """Every decision about a strip, in a fixed order: live, freeze (source alone, whole chain), off."""
    found = [Option(Decision("live", strip.id), "Keep live", "nothing given up", None)]
    if strip.instrument is not None:
        alone = Decision("freeze", strip.id, through=-1)
        found.append(_option(strip, alone, "Freeze the instrument", _frozen(strip, -1)))
    last = len(strip.inserts) - 1
    title = f"Freeze through insert {last + 1}" if last >= 0 else "Freeze the chain"
    if last >= 0 or strip.instrument is None:
        found.append(_option(strip, Decision("freeze", strip.id, through=last), title, _frozen(strip, last)))
    found.append(_option(strip, Decision("off", strip.id), "Switch off", "its sound; must come back before the render"))
    return found


def _option(strip: Strip, decision: Decision, title: str, price: str) -> Option:
    return Option(decision, title, price, obstacle(strip, decision))


def use_option(strip: Strip, use_id: str) -> Option:
    """Switching off one plugin of a strip. KeyError if it is not there."""
    strip.place_of(use_id)
    decision = Decision("off", strip.id, use_id)
    return _option(strip, decision, "Switch off this plugin", "its part of the sound; must come back before the render")


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


def saving(
    before: Prepared, session: Session, plan: Plan, decision: Decision, machine: Machine, buffer: int, moment: int
) -> Saving:
    """What one more decision saves at a moment of `before`, by the same block computation as everything else.

    `session` is the session without any plan, `plan` the plan so far, and `before` what that plan has made of it.
    """
    after = prepare(apply(session, plan.decide(decision)).session, before.cards, before)
    # Moments are cut anew if what is heard has changed; the same second is looked up there.
    middle = float(before.moments.times[moment : moment + 2].mean())
    now = block_at(before, machine, buffer, moment)
    then = block_at(after, machine, buffer, after.moments.at(middle))
    block_time = deadline(buffer, session.rate)
    return Saving((now.makespan - then.makespan) / block_time, (now.work - then.work) / block_time)
