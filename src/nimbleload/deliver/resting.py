"""When a track that is suspended while it is silent is off: written as automation of its plugins' switches
(see `store.switching`)."""

from __future__ import annotations

from ..core.cards.card import Cards
from ..core.piece.moments import Span, sounding_spans
from ..core.session.routing import build
from ..core.session.session import Session

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
