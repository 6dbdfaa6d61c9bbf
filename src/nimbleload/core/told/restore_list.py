"""The restore list: what to put back before the final render, item by item, made from the plan."""

from __future__ import annotations

from collections.abc import Sequence

from ..decisions.apply import KINDS, without_effect
from ..decisions.decision import Decision, Plan
from ..decisions.kind import chain_called, named_use
from ..decisions.share import shared_end
from ..session.session import Session
from ..units import count


def restore_list(session: Session, plan: Plan) -> list[str]:
    """What must be taken back, in session order, so that it can be worked through.

    A sentence for each decision; plugins of one make and setting that were lightened alike, or shared on a bus, are put
    back by one line, and so are plugins of one make that are off, and tracks that are suspended. What has no effect is
    not there to be put back. What was carried out before, in an export that was taken in, comes last.
    """
    order, idle = {strip.id: k for k, strip in enumerate(session.strips)}, set(without_effect(session, plan))
    found: dict[object, list[Decision]] = {}
    for decision in sorted(plan.decisions, key=lambda d: (order.get(d.strip, len(order)), d.use or "")):
        if decision.strip in order and decision not in idle:
            found.setdefault(_line(session, decision), []).append(decision)
    lines = []
    for decisions in found.values():
        strip = session.strip(decisions[0].strip)
        said = KINDS[decisions[0].kind].way_back(strip, decisions[0])
        if said is not None:
            lines.append(said if len(decisions) == 1 else _of_many(session, decisions))
    return [*lines, *(line for line in plan.carried_out if line not in lines)]


def left_words(lines: Sequence[str], put_back: Sequence[str]) -> str:
    """How much of a restore list is not ticked off yet, in a sentence; empty where the list is."""
    left = len([line for line in lines if line not in put_back])
    if not lines:
        return ""
    if not left:
        return "All that was to be put back before the render is ticked off (B shows it)."
    return f"{count(left, 'thing')} to put back before the render (B shows {'it' if left == 1 else 'them'})."


def _of_many(session: Session, decisions: Sequence[Decision]) -> str:
    """One line that puts back what was decided alike on several tracks."""
    first = decisions[0]
    strips = list(dict.fromkeys(decision.strip for decision in decisions))
    names, tracks = ", ".join(session.strip(strip).name for strip in strips), count(len(strips), "track")
    if first.kind == "suspend":
        return f"Let {tracks} run through, so that no tail is cut ({names})."
    use = named_use(session.strip(first.strip), first.use)
    assert use is not None
    where = f"on {tracks}" if len(strips) > 1 else f"on {names}"
    of = f" ({names})" if len(strips) > 1 else ""
    if first.kind == "off":
        return f"Switch {use.label} {where} on again{of}."
    if first.kind == "lighten":
        return f"Set {use.label} back {where}: {use.setting.words()}{of}."
    shared = chain_called(shared_end(session.strip(first.strip), first))
    if first.like is not None:
        return f"Put {shared} back {where}, set as it was: {use.setting.words()}{of}."
    return f"Put {shared} back {where}, unless one for all is how it shall sound{of}."


def _line(session: Session, decision: Decision) -> object:
    """What decisions must have in common to be put back by one line."""
    use = named_use(session.strip(decision.strip), decision.use)
    if decision.kind == "lighten" and use is not None:
        return (use.card_key(), decision.variant)
    if decision.kind == "share" and use is not None:
        shared = shared_end(session.strip(decision.strip), decision)
        return (tuple(use.card_key() for use in shared), decision.like)
    if decision.kind == "off" and use is not None:
        return ("off", use.plugin.standard, use.plugin.identifier, use.label)
    if decision.kind == "suspend" and use is None:
        return "suspend"
    return decision.subject
