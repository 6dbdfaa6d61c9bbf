"""How long a session's plugins take to load, one after the other: what one waits for when it is opened."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from ..cards.card import Cards
from ..cards.upkeep import Upkeep
from ..session.plugins import PluginUse
from ..session.session import Session
from .memory import by_kind, loaded_uses


class Loads(NamedTuple):
    """So `many` instances of one plugin (`label`), in whatever settings, load in so many seconds together."""

    label: str
    many: int
    seconds: float


class Opening(NamedTuple):
    """What loading takes by plugin, most first. Of `unknown` plugins it was not measured; of what was measured before
    further instances were timed by themselves (`earlier` plugins) each counts like the first."""

    kinds: tuple[Loads, ...]
    unknown: int
    earlier: int

    @property
    def seconds(self) -> float:
        return sum(each.seconds for each in self.kinds)


def opening(session: Session, cards: Cards) -> Opening:
    """What the plugins of a session take to load, as far as their cards tell."""
    return opening_of(loaded_uses(session), cards)


def opening_of(uses: Iterable[PluginUse], cards: Cards) -> Opening:
    """What these plugins take to load."""
    plugins: dict[tuple[str, str], list[tuple[Upkeep, list[PluginUse]]]] = {}
    unknown = earlier = 0
    for key, those in by_kind(uses).items():
        card = cards.get(key)
        if card is None or card.upkeep is None:
            unknown += len(those)
            continue
        earlier += len(those) if card.upkeep.again < 0 else 0
        plugins.setdefault((key.standard, key.identifier), []).append((card.upkeep, those))
    kinds = [
        Loads(settings[0][1][0].plugin.name, sum(len(those) for _, those in settings), _seconds(settings))
        for settings in plugins.values()
    ]
    return Opening(tuple(sorted(kinds, key=lambda each: (-each.seconds, each.label))), unknown, earlier)


def _seconds(settings: list[tuple[Upkeep, list[PluginUse]]]) -> float:
    """What all instances of a plugin take in their settings: what the first of a setting takes more is its code, which
    is loaded once, and what all in that setting share. How these two divide is seen from the setting that shares
    least."""
    first = [max(up.load - up.further, 0.0) for up, _ in settings]
    each = sum(up.further * len(those) for up, those in settings)
    return each + sum(first) - (len(first) - 1) * min(first)
