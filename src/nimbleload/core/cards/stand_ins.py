"""Figures that were not measured here: readings of a host's meter, and cards that stand in for others."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from difflib import SequenceMatcher
from functools import cache
from typing import NamedTuple

import msgspec

from ..session.computer import deadline
from ..session.plugins import CardKey, PluginUse
from .card import Cards, Cell, CostCard

# Names that have so much in common are called alike.
ALIKE = 0.75


class Reading(NamedTuple):
    """What a meter showed for one plugin at a buffer size (samples): `share` of one core, which is of the deadline."""

    buffer: int
    share: float


def from_readings(use: PluginUse, readings: Sequence[Reading], rate: int) -> CostCard:
    """A card with a typed cell for each reading. ValueError if there is none, or one is negative."""
    if not readings or any(reading.share < 0 for reading in readings):
        raise ValueError("a reading must be there, and not be negative")
    cells = tuple(
        Cell(rate, each.buffer, "sounding", each.share * deadline(each.buffer, rate), provenance="typed")
        for each in readings
    )
    return CostCard(use.card_key(), use.label, cells)


def standing_in(use: PluginUse, other: CostCard) -> CostCard:
    """The card of another plugin or setting, for this use: every figure of it counts as a stand-in's.

    It lends its cost, never its truth: neither latency, tail nor null tests are this plugin's.
    """
    cells = tuple(msgspec.structs.replace(cell, provenance="stand-in") for cell in other.cells)
    return msgspec.structs.replace(
        other, key=use.card_key(), name=use.label, cells=cells, failure=None, sweep=None, truth=None, latency=0,
        tail=None, listened=None, positions=(), nulls=(),
    )  # fmt: skip


class StandIn(NamedTuple):
    """A use that has no figures, and those whose cards could stand in for it, the likeliest first."""

    use: PluginUse
    others: tuple[PluginUse, ...]


def suggested(needed: Mapping[CardKey, tuple[PluginUse, int]], cards: Cards) -> list[StandIn]:
    """Who could stand in for each plugin without figures, the most used first; those for whom nobody could are left
    out. `needed` are the session's keys, each with a use and how often it is used (see `Session.cards_needed`).

    An instrument stands in for an instrument, an effect for an effect: one of the same name (in another standard, say),
    then of the same family, the more alike the names are and the nearer their channels.
    """
    lenders = [use for key, (use, _) in needed.items() if _lends(cards.get(key))]
    found = []
    for key, (use, count) in needed.items():
        card = cards.get(key)
        if card is None or not card.cells:
            ranks = [(rank, other) for other in lenders if (rank := _likeness(use, other)) is not None]
            if ranks:
                ranks.sort(key=lambda each: each[0], reverse=True)
                found.append((count, StandIn(use, tuple(other for _, other in ranks))))
    return [each for _, each in sorted(found, key=lambda each: -each[0])]


def _lends(card: CostCard | None) -> bool:
    """Whether a card has figures of its own."""
    return card is not None and any(cell.provenance != "stand-in" for cell in card.cells)


def _likeness(use: PluginUse, other: PluginUse) -> tuple[bool, bool, float, int] | None:
    """How likely a use stands in for another: the greater, the likelier; None if it does not."""
    if (use.family == "instrument") != (other.family == "instrument"):
        return None
    one, two = (_plain(each.label) for each in (use, other))
    same, related = one == two, use.family == other.family
    alike = _ratio(one, two)
    if not (same or alike >= ALIKE or (related and use.family != "other")):
        return None
    return same, related, alike, -abs(use.channels - other.channels)


@cache
def _ratio(one: str, two: str) -> float:
    """How much two names have in common (0 to 1; Ratcliff and Obershelp)."""
    return round(SequenceMatcher(None, one, two).ratio(), 2)


def _plain(name: str) -> str:
    """A name without what writing it differs by."""
    return "".join(each for each in name.casefold() if each.isalnum())


def without_failure(cards: Cards, of: Collection[CardKey]) -> dict[CardKey, CostCard]:
    """The cards with some of them (`of`) as if they had not failed; all else that is known of these stays."""
    return {
        key: msgspec.structs.replace(card, failure=None) if card.failure and key in of else card
        for key, card in cards.items()
    }
