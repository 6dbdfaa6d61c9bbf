"""What becomes of a plan when its session is edited."""

from __future__ import annotations

import msgspec

from ..session.session import Session
from ..session.strips import Strip
from .decision import Decision, Plan


def after_edit(plan: Plan, before: Session, after: Session) -> Plan:
    """The plan for the edited session: what spoke of a track or plugin that is gone is dropped.

    A freeze or bounce up to a plugin goes on to the same plugin, or to the one before it if that one is gone.
    """
    was, now = ({strip.id: strip for strip in each.strips} for each in (before, after))
    on = {use.id: strip.id for strip in after.strips for use in strip.uses()} if plan.decisions else {}
    kept = []
    for decision in plan.decisions:
        strip = now.get(decision.strip)
        if strip is None:
            continue
        if decision.use is not None and decision.use not in on:
            continue
        if decision.use is not None and on[decision.use] != decision.strip:
            decision = msgspec.structs.replace(decision, strip=on[decision.use])
        if decision.like is not None and decision.like not in on:
            decision = msgspec.structs.replace(decision, like=None)
        moved = _through(decision, was.get(decision.strip), strip)
        if moved is not None:
            kept.append(moved)
    standing = {
        field: tuple(each for each in getattr(plan, field) if each in now) for field in ("pinned", "done", "in_work")
    }
    return msgspec.structs.replace(plan, decisions=tuple(kept), **standing)


def _through(decision: Decision, was: Strip | None, now: Strip) -> Decision | None:
    """A decision up to a place, with the place that the same plugin has now; None if nothing is left of it."""
    if decision.through is None or was is None or was.uses() == now.uses():
        return decision
    if decision.through < 0:
        return decision if was.instrument is None or now.instrument is not None else None
    places = {use.id: place for place, use in now.places()}
    before = [places[use.id] for place, use in was.places() if place <= decision.through and use.id in places]
    if not before:
        return None
    return msgspec.structs.replace(decision, through=max(before))
