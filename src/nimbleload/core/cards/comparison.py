"""What is lighter in the family, what single settings save, and cards found by words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from ..session.plugins import CardKey, Family, PluginUse, Setting, Variant
from .card import Cards, CostCard, Effect, Sweep

# Less than this is within what two measurements differ by.
TELLING = 0.05
VOICES_NAME = "voices played"


class Lighter(NamedTuple):
    """A plugin that costs less: its card, seconds per block, and the share of the other's cost that it saves."""

    card: CostCard
    seconds: float
    saved: float


def lighter(
    cards: Cards, families: dict[tuple[str, str], Family], of: PluginUse, rate: int, buffer: int, most: int = 5
) -> list[Lighter]:
    """What costs less than a use among the other plugins of its family, each at its lightest with as many channels and
    notes, most saving first.

    `families` says the family of each (standard, identifier); what it does not name is left out.
    """
    own = cards.get(of.card_key())
    cost = own.cost(rate, buffer, "sounding").seconds if own is not None else 0.0
    if cost <= 0 or of.family == "other":
        return []
    same = (of.plugin.standard, of.plugin.identifier)
    best: dict[tuple[str, str], Lighter] = {}
    for key, card in cards.items():
        place = (key.standard, key.identifier)
        figure = card.cost(rate, buffer, "sounding")
        if families.get(place) != of.family or place == same or figure.provenance == "unknown":
            continue
        if (key.channels, key.voices) != (of.channels, of.voices):
            continue
        saved = 1 - figure.seconds / cost
        if saved > TELLING and (place not in best or figure.seconds < best[place].seconds):
            best[place] = Lighter(card, figure.seconds, saved)
    return sorted(best.values(), key=lambda found: found.seconds)[:most]


def savings(sweep: Sweep) -> list[tuple[Effect, float]]:
    """The tried settings that save something worth telling, with the share that they save, most first."""
    if sweep.base <= 0:
        return []
    found = [(effect, 1 - effect.seconds / sweep.base) for effect in sweep.ranked()]
    return [(effect, share) for effect, share in found if share > TELLING]


def variant_of(use: PluginUse, effects: Sequence[Effect]) -> Variant:
    """The variant of a use with these values; of several for one parameter the last counts."""
    values = dict(use.setting.values)
    words: dict[str, str] = {}
    voices = 0
    for effect in effects:
        words[effect.parameter] = effect.words
        if effect.parameter == VOICES_NAME:
            voices = int(effect.value)
        else:
            values[effect.parameter] = effect.value
    setting = Setting(tuple(values.items()), use.setting.state)
    return Variant(use.card_key(), ", ".join(words.values()), setting, voices)


def card_named(cards: Cards, uses: dict[CardKey, PluginUse], words: str) -> list[tuple[PluginUse, CostCard | None]]:
    """The uses whose name and setting hold every one of these words, with their cards; a number must be whole."""
    wanted = words.lower().split()
    found = []
    for key, use in uses.items():
        text = f"{use.label} {use.words()} {use.plugin.standard} {use.plugin.identifier}".lower()
        numbers = set(text.replace(",", " ").replace(";", " ").split())
        if all(word in (numbers if word[0].isdigit() else text) for word in wanted):
            found.append((use, cards.get(key)))
    return found
