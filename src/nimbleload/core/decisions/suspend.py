"""Suspend: a track costs nothing while it is silent."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from ..cards.card import Cards
from ..piece.moments import tail
from ..session.session import Session
from ..session.strips import Strip
from .decision import Decision
from .kind import Asked, Kind, Option
from .price import Part, Price, Terms

TAIL_CUT = 3.0


class Suspend(Kind):
    """A track costs nothing while it is silent."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        if strip.armed:
            return "it is record-armed: it is never silent for certain."
        if session.suspends(strip):
            return "it is suspended while silent already: nothing is left to save."
        return None if strip.uses() else "it has no plugins, so there is nothing to suspend."

    def change(self, strip: Strip, decision: Decision, session: Session) -> Strip:
        return msgspec.structs.replace(strip, suspended=True)

    def price(self, terms: Terms, decision: Decision) -> Price:
        strip = terms.session.strip(decision.strip)
        parts = [Part(terms.weights.suspend, "to let it run through once")]
        if cuts_tail(strip, terms.session, terms.cards):
            parts.append(Part((TAIL_CUT - terms.weights.suspend) * terms.weights.tails, "for a tail that is cut"))
        return Price(tuple(parts))

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        decision = Decision("suspend", strip.id)
        reason = self.obstacle(strip, decision, asked.session)
        yield Option(decision, "Suspend while silent", "a long tail may be cut", reason)

    def tail_traps(self, strip: Strip, session: Session, cards: Cards) -> Iterator[str]:
        if cuts_tail(strip, session, cards):
            yield (
                f"its tail of {tail(strip, cards):.1f} s is longer than the {session.host.tail_limit:g} s "
                "that the host waits before it suspends: the end is cut."
            )

    def words(self, session: Session, decision: Decision) -> str:
        return f"Suspend {session.strip(decision.strip).name} while it is silent"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        return f"Let {strip.name} run through, so that no tail is cut."


def cuts_tail(strip: Strip, session: Session, cards: Cards) -> bool:
    """Whether the host suspends the strip before its tail has died away."""
    return tail(strip, cards) > session.host.tail_limit
