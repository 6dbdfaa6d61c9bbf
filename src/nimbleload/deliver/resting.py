"""When a track that is suspended while it is silent is off: written as automation of its plugins' switches."""

from __future__ import annotations

from ..core.cards.card import Cards
from ..core.piece.moments import Span, sounding_spans
from ..core.session.routing import build
from ..core.session.session import Session
from .cutting import seconds

# Plugins are on so long before sound comes (seconds): hosts follow automation block by block.
LEAD = 0.05
# Shorter rests are none: to switch a plugin costs something, too.
SHORTEST = 1.0


def rests(session: Session, cards: Cards) -> dict[str, list[Span]]:
    """From when to when each strip of a session is silent, tails included (seconds), by its id."""
    spans = sounding_spans(session, build(session), cards)
    found = {}
    for strip, sounding in zip(session.strips, spans, strict=True):
        starts = [0.0, *(end for _, end in sounding)]
        ends = [*(start - LEAD for start, _ in sounding), session.length]
        found[strip.id] = [
            (start, end) for start, end in zip(starts, ends, strict=True) if end - start >= SHORTEST
        ]  # fmt: skip
    return found


def points(target: str, own: str, resting: list[Span]) -> str:
    """Automation that switches a parameter (the id `target`) off for some stretches; `own` is the automation's id."""
    rows = [] if resting and resting[0][0] == 0.0 else [(0.0, "true")]
    rows += [row for start, end in resting for row in ((start, "false"), (end, "true"))]
    inside = "".join(f'<BoolPoint time="{seconds(second)}" value="{value}"/>' for second, value in rows)
    return f'<Points id="{own}" timeUnit="seconds"><Target parameter="{target}"/>{inside}</Points>'
