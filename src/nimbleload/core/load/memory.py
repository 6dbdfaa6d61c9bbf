"""What a session's plugins keep in memory, and whether this computer has room for it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from typing import NamedTuple

from ..cards.card import Cards, CostCard
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

    def given_back(self, uses: Iterable[PluginUse]) -> int:
        """What goes with these of the loaded plugins (bytes): of each its own, and with the last of them what all in
        its setting share."""
        gone = Counter(use.card_key() for use in uses)
        taken = ((each, gone[each.key]) for each in self.kinds if each.key in gone)
        return sum(many * each.each + (each.pool if many == each.many else 0) for each, many in taken)

    @property
    def growing(self) -> list[Keeps]:
        """Those that take more and more, what grows fastest first."""
        return sorted((each for each in self.kinds if each.grows > 0), key=lambda each: -each.grows)


def loaded_uses(session: Session) -> list[PluginUse]:
    """The plugins that a host has loaded: bypassed and frozen ones too, but none of a strip that is off."""
    return [use for strip in session.strips if strip.enabled for use in strip.uses() if use.loaded]


def keeps(use: PluginUse, many: int, card: CostCard | None) -> Keeps | None:
    """What so many instances of a plugin in its setting keep; None if that is not known."""
    if card is None or card.upkeep is None:
        return None
    up = card.upkeep
    return Keeps(use.card_key(), use.label, many, up.memory, up.pool or 0, up.grows * many)


def memory(session: Session, cards: Cards) -> Memory:
    """What a session's loaded plugins keep, as far as their cards tell."""
    return kept_by(loaded_uses(session), cards)


def by_kind(uses: Iterable[PluginUse]) -> dict[CardKey, list[PluginUse]]:
    """Plugins by kind and setting."""
    found: dict[CardKey, list[PluginUse]] = {}
    for use in uses:
        found.setdefault(use.card_key(), []).append(use)
    return found


def kept_by(uses: Iterable[PluginUse], cards: Cards) -> Memory:
    """What these plugins keep together."""
    kinds: list[Keeps] = []
    code: dict[tuple[str, str], int] = {}
    unknown = earlier = 0
    for key, those in by_kind(uses).items():
        card = cards.get(key)
        found = keeps(those[0], len(those), card)
        if found is None or card is None or card.upkeep is None:
            unknown += len(those)
            continue
        earlier += len(those) if card.upkeep.pool is None else 0
        kinds.append(found)
        made_as = key.standard, key.identifier
        code[made_as] = max(code.get(made_as, 0), card.upkeep.code)
    kinds.sort(key=lambda each: (-each.bytes, each.label, each.key))
    return Memory(tuple(kinds), sum(code.values()), unknown, earlier)


def played_uses(session: Session, sounding: Iterable[bool]) -> list[PluginUse]:
    """The plugins that a rehearsal of a moment plays, in which these strips sound (S): what is suspended is not called
    while it is silent."""
    return [
        use
        for strip, sounds in zip(session.strips, sounding, strict=True)
        if sounds or not session.suspends(strip)
        for use in strip.live_uses()
    ]


def fits(of: Memory, room: float) -> bool:
    """Whether there is room for it beside everything else, in so many bytes of memory (0: not known)."""
    return not room or of.bytes <= ROOM * room


def room_for(copies: Callable[[int], Session], cards: Cards, room: float) -> int | None:
    """For how many more of something there is room in so much memory (bytes), as far as it is known; None where there
    is no telling, or they keep next to nothing. `copies` makes the session with so many more."""
    now, one, two = (memory(copies(count), cards).bytes for count in range(3))
    left, each = ROOM * room - one, two - one
    if not room or (each <= 0 and left >= 0):
        return None
    if left < 0 or one <= now:
        return 0 if left < 0 else None
    return 1 + int(left // each)
