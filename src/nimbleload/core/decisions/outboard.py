"""Outboard: a plugin runs on a device outside the computer, as long as that has room."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..session.session import Session
from ..session.strips import Strip
from ..units import agreeing
from .decision import Decision
from .kind import Asked, Kind, Option, Work, bypassed, called, named_use, placed, with_uses
from .price import ROUTED, Part, Price, Terms


class Outboard(Kind):
    """A plugin gives way to a device outside the computer."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        return "to outboard is for a plugin; the plan names none." if decision.use is None else None

    def carry_out(self, work: Work, decisions: Sequence[Decision]) -> None:
        """As many as the device has room for, in the plan's order."""
        room = count = work.session.device.outboard
        for decision in (d for d in work.plan.decisions if d in decisions):
            strip = work.changed[decision.strip]
            use = named_use(strip, decision.use)
            if use is None or not use.enabled:
                work.warnings.append(f"{strip.name}: what was to move outboard is not on it any more.")
            elif room < 1:
                holds = agreeing(count, "plugin", "plugins")
                work.warnings.append(
                    f"{strip.name}: the outboard device has room for {holds}; {use.label} stays here."
                )
            else:
                room -= 1
                work.changed[strip.id] = with_uses(strip, {use.id: bypassed(use)})

    def price(self, terms: Terms, decision: Decision) -> Price:
        return Price((Part(ROUTED, "to route it, and to render in real time"),))

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        if asked.session.device.outboard:
            for use in strip.uses():
                if use.enabled:
                    away = Decision("outboard", strip.id, use.id)
                    yield Option(away, f"Move {use.label} outboard", "one round trip more latency", None)

    def words(self, session: Session, decision: Decision) -> str:
        strip = session.strip(decision.strip)
        return f"Move {called(named_use(strip, decision.use))} of {strip.name} outboard"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        use = named_use(strip, decision.use)
        what = placed(use, strip)
        return f"Take {what} back from the outboard device, if it renders faster than real time."
