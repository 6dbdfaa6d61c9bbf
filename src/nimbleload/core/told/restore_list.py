"""The restore list: what to put back before the final render, item by item, made from the plan."""

from __future__ import annotations

from ..decisions.apply import KINDS
from ..decisions.decision import Decision, Plan
from ..decisions.kind import named_use
from ..session.session import Session


def restore_list(session: Session, plan: Plan) -> list[str]:
    """What must be taken back, in session order, so that it can be worked through.

    A sentence for each decision; plugins of one make and setting that were lightened alike, or shared on a bus, are put
    back by one line.
    """
    order = {strip.id: k for k, strip in enumerate(session.strips)}
    found: dict[object, list[Decision]] = {}
    for decision in sorted(plan.decisions, key=lambda d: (order.get(d.strip, len(order)), d.use or "")):
        if decision.strip in order:
            found.setdefault(_line(session, decision), []).append(decision)
    lines = []
    for decisions in found.values():
        strip = session.strip(decisions[0].strip)
        said = KINDS[decisions[0].kind].way_back(strip, decisions[0])
        if said is not None and len(decisions) > 1:
            use = named_use(strip, decisions[0].use)
            names = ", ".join(session.strip(d.strip).name for d in decisions)
            assert use is not None
            where = f"{use.label} back on {len(decisions)} tracks"
            if decisions[0].kind == "lighten":
                said = f"Set {where}: {use.setting.words()} ({names})."
            elif decisions[0].like is not None:
                said = f"Put {where}, set as it was: {use.setting.words()} ({names})."
            else:
                said = f"Put {where}, unless one for all is how it shall sound ({names})."
        if said is not None:
            lines.append(said)
    return lines


def _line(session: Session, decision: Decision) -> object:
    """What decisions must have in common to be put back by one line."""
    use = named_use(session.strip(decision.strip), decision.use)
    if decision.kind == "lighten" and use is not None:
        return (use.card_key(), decision.variant)
    if decision.kind == "share" and use is not None:
        return (use.card_key(), decision.like)
    return decision.subject
