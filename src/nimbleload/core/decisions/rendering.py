"""What freezing and bouncing have in common: how long a render takes, how much disk it needs, what a print holds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from ..cards.card import Cards
from ..piece.moments import tail, union
from ..session.computer import BUFFER_SIZES, Machine, deadline
from ..session.session import Session
from ..session.strips import Clip, Strip
from .decision import Decision
from .price import THAW, Part, Price, Terms

# A tail longer than this, in seconds, is worth a word where something may cut it.
LONG_TAIL = 0.5


def source_obstacle(strip: Strip, session: Session, done: str, kind: str) -> str | None:
    """Why a track cannot be rendered, as a sentence: `done` is "frozen" or "bounced"."""
    if strip.kind != "track":
        return f"only a track can be {done}; it has a source of its own."
    if strip.armed:
        return "it is record-armed: its input is still to come, so there is nothing to render. Disarm it first."
    if not strip.clips:
        return "it has no clips, so there is nothing to render."
    if not strip.uses():
        return f"it has no plugins, so a {kind} would save nothing."
    return None


def through_obstacle(strip: Strip, decision: Decision) -> str | None:
    """Why the place up to which a decision renders is none of the chain."""
    first = -1 if strip.instrument else 0
    if decision.through is not None and not first <= decision.through < len(strip.inserts):
        return f"it has no place {decision.through + 1} in its chain to freeze up to."
    return None


def last_place(strip: Strip, decision: Decision) -> int:
    """The last place that a render takes in: the one it names, else the end of the chain."""
    return len(strip.inserts) - 1 if decision.through is None else decision.through


def audio_seconds(strip: Strip) -> float:
    """How much audio a render writes: the length of the strip's clips, overlaps counted once, in seconds."""
    return sum(end - start for start, end in union((c.start, c.end) for c in strip.clips))


def audio_bytes(strip: Strip, rate: int) -> float:
    """Disk space of a render as 32-bit float, in bytes: one channel for a strip of one, else two."""
    return audio_seconds(strip) * rate * min(strip.channels, 2) * 4


def render_seconds(session: Session, cards: Cards, machine: Machine, strip: Strip, through: int) -> float:
    """How long this computer takes to render a strip up to a place: its plugins in the largest blocks, one core."""
    size, rate = BUFFER_SIZES[-1], session.rate
    inside = [use for place, use in strip.places() if place <= through and use.enabled]
    found = (cards.get(use.card_key()) for use in inside)
    spent = sum(card.cost(rate, size, "sounding").seconds for card in found if card is not None)
    spent *= session.host.plugin_factor / machine.speed
    return audio_seconds(strip) * spent / deadline(size, rate)


def loading_minutes(terms: Terms, strip: Strip, through: int) -> float:
    """How long the plugins of a strip up to a place take to load again beside others of them, as far as that was
    measured."""
    cards = (terms.cards.get(use.card_key()) for place, use in strip.places() if place <= through)
    return sum(card.upkeep.further for card in cards if card is not None and card.upkeep is not None) / 60


def price_of(terms: Terms, strip: Strip, through: int, undo: float = THAW) -> Price:
    """What a render costs: waiting for it, coming back to the track, plugins that are locked, disk."""
    weights = terms.weights
    render = render_seconds(terms.session, terms.cards, terms.machine, strip, through) / 60 * weights.rendering
    returns = terms.returns(strip.id)
    inside = sum(1 for place, use in strip.places() if place <= through and use.enabled)
    disk = audio_bytes(strip, terms.session.rate) / 1e8 * weights.disk
    parts = [
        Part(render, "of rendering"),
        Part(returns * (undo + render), "if you return to it"),
        Part(weights.locked * inside, f"for {inside} plugin{'s' if inside > 1 else ''} locked"),
        Part(disk, "of disk space"),
        Part(weights.step, "for the step"),
    ]
    return Price(tuple(part for part in parts if part.minutes > 0))


def one_each(spans: Iterable[tuple[float, float]], name: str = "") -> tuple[Clip, ...]:
    """A clip for each stretch in which something was."""
    return tuple(Clip(start, end, "audio", name) for start, end in union(spans))


def printed(strip: Strip, through: int | None = None) -> Strip:
    """A track whose sound up to a place (None: its fader) has been printed, a clip for each stretch.

    What comes after that place stays live, as do fader and sends.
    """
    clips = one_each(((clip.start, clip.end) for clip in strip.clips), f"{strip.name} (bounced)")
    left = () if through is None else strip.inserts[through + 1 :]
    return msgspec.structs.replace(strip, instrument=None, inserts=left, clips=clips, frozen_through=None)


def after_fader(strip: Strip, through: int | None) -> str:
    """Who comes after the fader within a print up to a place, as the start of a sentence; empty if nobody does."""
    last = len(strip.inserts) - 1 if through is None else through
    after = [use.label for use in strip.inserts[strip.last_before_fader + 1 : last + 1] if use.enabled]
    if not after or strip.kind != "track":
        return ""
    return f"{' and '.join(after)} come{'s' if len(after) == 1 else ''} after the fader"


def end_of_piece(strip: Strip, session: Session, cards: Cards, kind: str) -> Iterator[str]:
    """That a tail goes on after the end of the piece."""
    lasting = tail(strip, cards)
    last = max((clip.end for clip in strip.clips), default=0.0)
    if lasting > LONG_TAIL and last + lasting > session.length:
        yield (
            f"its tail of {lasting:.1f} s goes on after the end of the piece; "
            f"the {kind} must be {last + lasting - session.length:.1f} s longer."
        )
