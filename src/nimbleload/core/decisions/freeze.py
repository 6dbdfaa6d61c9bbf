"""Freeze: the instrument, or the chain up to an insert, is rendered and costs nothing; it can be undone."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from ..cards.card import Cards
from ..session.session import Session
from ..session.strips import Strip
from .decision import Decision
from .kind import Asked, Kind, Option, Work, unloaded, with_uses
from .price import THAW, Price, Terms
from .rendering import (
    after_fader,
    end_of_piece,
    last_place,
    loading_minutes,
    price_of,
    source_obstacle,
    through_obstacle,
)


class Freeze(Kind):
    """A track is rendered up to a place of its chain; its plugins rest until it is undone."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        if decision.use is not None:
            return "a freeze is for a track, not for one plugin alone."
        reason = source_obstacle(strip, session, "frozen", "freeze") or through_obstacle(strip, decision)
        if reason is None and strip.frozen_through is not None and strip.frozen_through >= last_place(strip, decision):
            return "it is frozen already in the session: a freeze would save nothing."
        return reason

    def change(self, strip: Strip, decision: Decision, session: Session) -> Strip:
        through = last_place(strip, decision)
        frozen = through if strip.frozen_through is None else max(strip.frozen_through, through)
        if decision.unloaded:
            strip = with_uses(strip, {use.id: unloaded(use) for place, use in strip.places() if place <= through})
        return msgspec.structs.replace(strip, frozen_through=frozen)

    def price(self, terms: Terms, decision: Decision) -> Price:
        strip = terms.session.strip(decision.strip)
        through = last_place(strip, decision)
        again = loading_minutes(terms, strip, through) if decision.unloaded else 0.0
        return price_of(terms, strip, through, THAW + again)

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        last, before = len(strip.inserts) - 1, strip.last_before_fader
        if strip.instrument is not None:
            yield self._option(strip, -1, "Freeze the instrument", asked)
        shared = places_before_shared(strip, asked)
        if 0 <= before < last:
            yield self._option(strip, before, "Freeze up to the fader", asked)
        for place in shared:
            if place not in (-1, before, last):
                yield self._option(strip, place, f"Freeze through insert {place + 1}", asked)
        if last >= 0 or strip.instrument is None:
            title = f"Freeze through insert {last + 1}" if last >= 0 else "Freeze the chain"
            yield self._option(strip, last, title, asked)

    def _option(self, strip: Strip, through: int, title: str, asked: Asked) -> Option:
        decision = Decision("freeze", strip.id, through=through)
        locked = "notes locked" if through < 0 else "locked until unfrozen"
        after = len(strip.inserts) - 1 - through
        given = locked if after == 0 else f"{locked}; {after} {'inserts stay' if after > 1 else 'insert stays'} live"
        return Option(decision, title, given, self.obstacle(strip, decision, asked.session))

    def traps(self, decision: Decision, strip: Strip, work: Work) -> Iterator[str]:
        who = after_fader(strip, decision.through)
        if who:
            until = "the instrument" if strip.last_before_fader < 0 else f"insert {strip.last_before_fader + 1}"
            yield f"{who}; frozen too, the fader and its automation are frozen in. A freeze of {until} keeps them live."

    def tail_traps(self, strip: Strip, session: Session, cards: Cards) -> Iterator[str]:
        yield from end_of_piece(strip, session, cards, "freeze")

    def words(self, session: Session, decision: Decision) -> str:
        strip = session.strip(decision.strip)
        more = ", unloaded" if decision.unloaded else ""
        if decision.through == -1:
            return f"Freeze the instrument of {strip.name}{more}"
        whole = last_place(strip, decision) >= len(strip.inserts) - 1
        inside = "" if whole else f" through insert {(decision.through or 0) + 1}"
        return f"Freeze {strip.name}{inside}{more}"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        again = " Its plugins load again." if decision.unloaded else ""
        return f"Unfreeze {strip.name}, or render from the freeze if nothing before it has changed.{again}"


def places_before_shared(strip: Strip, asked: Asked) -> list[int]:
    """The places up to which a strip could be frozen so that the rest of its chain can still be shared."""
    first = -1 if strip.instrument is not None else 0
    members = [(group, use) for group in asked.sharing for member, use in group.members if member == strip.id]
    places = {strip.place_of(use) - 1 for _, use in members}
    return sorted(place for place in places if place >= first)
