"""Loads of sessions of which not every plugin has a figure: what has none counts as nothing, and is never kept back."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from ..session.plugins import PluginUse
from ..session.strips import Strip
from ..survey import Survey
from ..units import percent

NOT_KNOWN = "not known"


def without_figure(count: int) -> str:
    """How many plugins have no figure."""
    return "1 plugin has no figure" if count == 1 else f"{count} plugins have no figure"


def counted_as_nothing(count: int) -> str:
    """The same, and what that means."""
    return f"{without_figure(count)} and {'counts' if count == 1 else 'count'} as nothing"


def is_unknown(of: Survey) -> bool:
    """Whether no plugin has a figure, so that a load would say nothing."""
    return of.missing > 0 and of.known == 0


def share_words(strip: Strip, lacking: Collection[str], share: float, brief: bool = False) -> str:
    """What a strip takes of one core (fraction): "12 %", "at least 12 %" where plugins of it (use ids) lack a figure,
    "not known" where all do; in signs if it is to be brief."""
    return _together([strip], lacking, share, *(("—", "≥") if brief else (NOT_KNOWN, "at least ")))


def takes_words(strips: Iterable[Strip], lacking: Collection[str], share: float) -> str:
    """What strips take together, in a sentence: "at least 12 % of one core", "cost not known"."""
    told = _together(strips, lacking, share, NOT_KNOWN, "at least ")
    return f"cost {told}" if told == NOT_KNOWN else f"{told} of one core"


def _together(strips: Iterable[Strip], lacking: Collection[str], share: float, nothing: str, least: str) -> str:
    live = [use.id for strip in strips for use in strip.live_uses()]
    without = sum(use in lacking for use in live)
    if without and without == len(live):
        return nothing
    return f"{least if without else ''}{percent(share)}"


def use_words(of: Survey, use: PluginUse, seconds: float) -> str:
    """What a plugin takes, or would, of a block: "42 µs  0.8 %"; "not known" where it has no figure."""
    card = of.planned.cards.get(use.card_key())
    if card is None or card.cost(of.session.rate, of.buffer, "sounding").provenance == "unknown":
        return NOT_KNOWN
    return f"{seconds * 1e6:.0f} µs  {percent(seconds / of.deadline)}"


def load_words(of: Survey, load: float) -> str:
    """A load of the session (fraction): "79 %", "at least 79 %"; "not known" where nothing is."""
    if is_unknown(of):
        return NOT_KNOWN
    return f"{'at least ' if of.missing else ''}{percent(load)}"


def fits_words(of: Survey) -> str:
    """That a session needs no plan, as far as that is known."""
    if is_unknown(of):
        return "Nothing is measured yet: whether it fits is not known."
    if of.missing:
        return f"As far as is known it fits as it is: {counted_as_nothing(of.missing)}."
    return "It fits as it is."
