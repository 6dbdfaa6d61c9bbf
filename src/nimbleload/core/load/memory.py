"""What a session's plugins keep in memory, and whether this computer has room for it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from ..cards.card import Cards
from ..session.plugins import CardKey, PluginUse
from ..session.session import Session

# So much of a computer's memory (a share of it) plugins can have: the rest is the system's, the host's and the audio's.
ROOM = 0.8


class Keeps(NamedTuple):
    """What the instances of one plugin (`label`) in one setting keep: so `many` of them `each` (bytes), and `pool`
    bytes once for all; and what they take more together in a second in which all of them sound (`grows`)."""

    key: CardKey
    label: str
    many: int
    each: int
    pool: int
    grows: float

    @property
    def bytes(self) -> int:
        return self.many * self.each + self.pool


class Memory(NamedTuple):
    """What plugins keep, by plugin and setting, most first; and their `code`, bytes once for each plugin. Of `unknown`
    plugins it was not measured; of what was measured in an earlier way (`earlier` plugins) what they share is not
    known."""

    kinds: tuple[Keeps, ...]
    code: int
    unknown: int
    earlier: int

    @property
    def bytes(self) -> int:
        return sum(each.bytes for each in self.kinds) + self.code

    @property
    def is_at_least(self) -> bool:
        """Whether it may be more."""
        return bool(self.unknown or self.earlier)

    @property
    def growing(self) -> list[Keeps]:
        """Those that take more and more, what grows fastest first."""
        return sorted((each for each in self.kinds if each.grows > 0), key=lambda each: -each.grows)


def loaded_uses(session: Session) -> list[PluginUse]:
    """The plugins that a host has loaded: bypassed and frozen ones too, but none of a strip that is off."""
    return [use for strip in session.strips if strip.enabled for use in strip.uses() if use.loaded]


def memory(session: Session, cards: Cards) -> Memory:
    """What a session's loaded plugins keep, as far as their cards tell."""
    return kept_by(loaded_uses(session), cards)


def kept_by(uses: Iterable[PluginUse], cards: Cards) -> Memory:
    """What these plugins keep together."""
    many: dict[CardKey, list[PluginUse]] = {}
    for use in uses:
        many.setdefault(use.card_key(), []).append(use)
    kinds: list[Keeps] = []
    code: dict[tuple[str, str], int] = {}
    unknown = earlier = 0
    for key, those in many.items():
        card = cards.get(key)
        if card is None or card.upkeep is None:
            unknown += len(those)
            continue
        up = card.upkeep
        earlier += len(those) if up.pool is None else 0
        kinds.append(Keeps(key, those[0].label, len(those), up.memory, up.pool or 0, up.grows * len(those)))
        made_as = key.standard, key.identifier
        code[made_as] = max(code.get(made_as, 0), up.code)
    kinds.sort(key=lambda each: (-each.bytes, each.label, each.key))
    return Memory(tuple(kinds), sum(code.values()), unknown, earlier)
