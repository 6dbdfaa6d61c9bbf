"""Live: a strip or plugin stays as it is; what was decided about it is taken back."""

from __future__ import annotations

from collections.abc import Iterator

from ..session.session import Session
from ..session.strips import Strip
from .decision import Decision
from .kind import Asked, Kind, Option


class Live(Kind):
    """A track stays as it is; taken into a plan it removes what was decided of it."""

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        yield Option(Decision("live", strip.id), "Keep live", "nothing given up", None)

    def words(self, session: Session, decision: Decision) -> str:
        return f"Keep {session.strip(decision.strip).name} live"
