"""Disarm: a track leaves the live thread, and cannot be recorded meanwhile."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from ..session.session import Session
from ..session.strips import Strip
from .decision import Decision
from .kind import Asked, Kind, Option
from .price import REHEARSED_AGAIN, Part, Price, Terms


class Disarm(Kind):
    """A track is no longer record-armed: it may be computed ahead, and be silent."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        return None if strip.armed else "it is not armed."

    def change(self, strip: Strip, decision: Decision, session: Session) -> Strip:
        return msgspec.structs.replace(strip, armed=False)

    def price(self, terms: Terms, decision: Decision) -> Price:
        return Price((Part(REHEARSED_AGAIN, "to arm it for each take"),))

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        if strip.armed:
            yield Option(Decision("disarm", strip.id), "Disarm", "cannot be recorded meanwhile", None)

    def words(self, session: Session, decision: Decision) -> str:
        return f"Disarm {session.strip(decision.strip).name}"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        return f"Arm {strip.name} again if it is to be recorded."
