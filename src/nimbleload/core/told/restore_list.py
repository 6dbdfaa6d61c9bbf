"""The restore list: what to put back before the final render, item by item, made from the plan."""

from __future__ import annotations

from ..decisions.plan import Plan
from ..session.session import Session


def restore_list(session: Session, plan: Plan) -> list[str]:
    """One sentence for each decision that must be taken back; in session order, so that it can be worked through."""
    order = {strip.id: k for k, strip in enumerate(session.strips)}
    found = []
    for decision in sorted(plan.decisions, key=lambda d: (order.get(d.strip, len(order)), d.use or "")):
        if decision.strip not in order:
            continue
        strip = session.strip(decision.strip)
        use = next((u for u in strip.uses() if u.id == decision.use), None)
        what = f"{use.label} on {strip.name}" if use is not None else strip.name
        words = {
            "off": f"Switch {what} on again.",
            "freeze": f"Unfreeze {strip.name}, or render from the freeze if nothing before it has changed."
            + (" Its plugins load again." if decision.unloaded else ""),
            "suspend": f"Let {strip.name} run through, so that no tail is cut.",
            "bounce": f"Use the kept source of {strip.name} if its sound must change; else the bounce is final.",
            "share": f"Put {what} back on its own track, unless one for all is how it shall sound.",
            "outboard": f"Take {what} back from the outboard device, if it renders faster than real time.",
            "disarm": f"Arm {strip.name} again if it is to be recorded.",
        }
        if decision.like is not None and use is not None:
            found.append(f"Put {what} back on its own track, set as it was: {use.setting.words()}.")
        elif decision.kind == "lighten" and use is not None:
            found.append(f"Set {what} back: {use.setting.words()}{f', {use.voices} voices' if use.voices else ''}.")
        elif decision.kind in words:
            found.append(words[decision.kind])
    return found
