"""Loads of sessions of which not every plugin has a figure: what has none counts as nothing, and is never kept back."""

from __future__ import annotations

from collections.abc import Collection

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
    live = strip.live_uses()
    without = sum(use.id in lacking for use in live)
    if without and without == len(live):
        return "—" if brief else NOT_KNOWN
    least = "≥" if brief else "at least "
    return f"{least if without else ''}{percent(share)}"


def takes_words(strip: Strip, lacking: Collection[str], share: float) -> str:
    """The same in a sentence: "at least 12 % of one core", "cost not known"."""
    share_told = share_words(strip, lacking, share)
    return f"cost {NOT_KNOWN}" if share_told == NOT_KNOWN else f"{share_told} of one core"


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
