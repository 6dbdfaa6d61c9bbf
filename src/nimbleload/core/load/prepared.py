"""A session made ready for computing: its graph, its moments, its plugins. No buffer size changes these."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.parts import divided
from ..block.play import live_strips
from ..cards.card import Cards
from ..piece.moments import Moments, cut, same_activity
from ..session.cut_at_sends import split
from ..session.plugins import PluginUse
from ..session.routing import Graph, build
from ..session.session import Session
from ..session.strips import Strip
from .figures import Figures


class Uses(NamedTuple):
    """The U plugins of a session: `strip` and `card` (U, int64) say where each sits and which card it has.

    `card` counts along the keys of the session's figures; `live` (U, bool) says which of them cost something. `live_in`
    (S, int64) is how many of those each strip has, and `whole` (S, bool) which strips cost a host its overhead: those
    that are on, and no later part of one that is cut for a send.
    """

    uses: tuple[PluginUse, ...]
    strip: NDArray[np.int64]
    card: NDArray[np.int64]
    live: NDArray[np.bool_]
    live_in: NDArray[np.int64]
    whole: NDArray[np.bool_]


class Prepared(NamedTuple):
    """A session with its graph, moments and plugins; no buffer size changes them. `live` (S, bool): `live_strips`.

    `tasks` is the graph of what is computed in a block: the same, or all parts of it (see `divided`); `figures` what
    the cards say of its plugins and their variants. `counts` (K) is how many uses the figures' keys have in the session
    without its plan.
    """

    session: Session
    cards: Cards
    graph: Graph
    moments: Moments
    uses: Uses
    live: NDArray[np.bool_]
    tasks: Graph
    figures: Figures
    counts: NDArray[np.int64]


def prepare(
    session: Session, cards: Cards, like: Prepared | None = None, now: Prepared | None = None
) -> Prepared:  # fmt: skip
    """Graph and moments of a session; those of `like` are taken over where they must be the same. `now` is the session
    without its plan, if this is one with a plan: it must not change what figures say.

    Chains that sends leave before their end are cut there (see `split`).

    SessionError if the routing runs in a circle or leads nowhere.
    """
    session = split(session)
    figures = _figures(session, cards, like, now.figures if now is not None else None)
    if like is not None and like.cards is cards and same_activity(like.session, session):
        graph = like.graph._replace(listed=session.host.listed)
        same = graph.listed == like.graph.listed and session.host.parts == like.session.host.parts
        tasks = like.tasks if same else divided(graph, session.host.parts)
        uses = list_uses(session, figures, like)
        counts = _counts(uses, figures, now)
        return Prepared(session, cards, graph, like.moments, uses, like.live, tasks, figures, counts)
    graph = build(session)
    moments, live = cut(session, graph, cards), live_strips(session, graph)
    tasks = divided(graph, session.host.parts)
    uses = list_uses(session, figures)
    return Prepared(session, cards, graph, moments, uses, live, tasks, figures, _counts(uses, figures, now))


def _counts(uses: Uses, figures: Figures, now: Prepared | None) -> NDArray[np.int64]:
    """How many uses the figures' keys have: in the session without its plan, or in this one if it has none."""
    if now is None:
        return np.bincount(uses.card, minlength=len(figures.keys))
    if figures is now.figures:
        return now.counts
    known = dict(zip(now.figures.keys, now.counts.tolist(), strict=True))
    return np.array([known.get(key, 0) for key in figures.keys], np.int64)


def _figures(session: Session, cards: Cards, like: Prepared | None, whole: Figures | None) -> Figures:
    """The figures of all plugins of a session and of its variants: those of the `whole` if they hold all of these, or
    those of `like` if they hold just these: at which clock they are told goes by all of them."""
    if like is not None and like.figures is whole and like.cards is cards and _needs_the_same(like.session, session):
        return like.figures
    needed = list(session.cards_needed())
    if whole is not None and whole.cards is cards and whole.rate == session.rate and whole.covers(needed):
        return whole
    same = like is not None and like.cards is cards and like.figures.rate == session.rate
    if like is not None and same and len(needed) == len(like.figures.keys) and like.figures.covers(needed):
        return like.figures
    return Figures(cards, needed, session.rate)


def _needs_the_same(before: Session, after: Session) -> bool:
    """Whether two sessions surely need the same cards."""
    return before.rate == after.rate and before.variants == after.variants and _same_uses(before, after)


def list_uses(session: Session, figures: Figures, like: Prepared | None = None) -> Uses:
    """All plugins of a session, in session order. Where `like` has the very same plugins, only what is live is new."""
    if like is not None and like.figures is figures and _same_uses(like.session, session):
        live = like.uses.live.copy()
        for i, (old, new) in enumerate(zip(like.session.strips, session.strips, strict=True)):
            if old is not new and old != new:
                live[like.uses.strip == i] = _live(new)
        return _counted(session, like.uses.uses, like.uses.strip, like.uses.card, live)
    uses: list[PluginUse] = []
    strip: list[int] = []
    card: list[int] = []
    flags: list[bool] = []
    for i, each in enumerate(session.strips):
        own = each.uses()
        uses.extend(own)
        strip.extend([i] * len(own))
        card.extend(figures.index[use.card_key()] for use in own)
        flags.extend(_live(each))
    where = np.array(strip, np.int64)
    return _counted(session, tuple(uses), where, np.array(card, np.int64), np.array(flags, np.bool_))


def _live(strip: Strip) -> list[bool]:
    """Which of a strip's plugins cost something, in their order."""
    return [strip.enabled and use.enabled and not strip.is_frozen(place) for place, use in strip.places()]


def _same_uses(before: Session, after: Session) -> bool:
    """Whether two sessions hold the same plugins in the same places, but for what is switched off."""
    if len(before.strips) != len(after.strips):
        return False
    return all(
        old is new or (old.instrument is new.instrument and old.inserts is new.inserts)
        for old, new in zip(before.strips, after.strips, strict=True)
    )


def _counted(
    session: Session,
    uses: tuple[PluginUse, ...],
    strip: NDArray[np.int64],
    card: NDArray[np.int64],
    live: NDArray[np.bool_],
) -> Uses:
    live_in = np.bincount(strip[live], minlength=len(session.strips))
    whole = np.array([each.enabled and each.part_of is None for each in session.strips], np.bool_)
    return Uses(uses, strip, card, live, live_in, whole)
