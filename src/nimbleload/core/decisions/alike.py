"""Where one plugin could do the work of several: tracks that end in the same chain and feed the same strip."""

from __future__ import annotations

from collections import Counter
from typing import NamedTuple

from ..cards.card import NEAR_DB, Cards
from ..session.plugins import Family, PluginUse
from ..session.session import Session
from ..session.strips import Strip
from .plan import Decision

# Plugins of these families are as a rule linear: what is known of them before any null test.
LINEAR: tuple[Family, ...] = ("equaliser", "reverb", "delay")
# Settings are nearly alike while no more parameters than this have other values, none by more than this share.
NEAR_VALUES, NEAR_SHARE = 2, 0.25
SharedKey = tuple[str | None, object, bool]


class Group(NamedTuple):
    """Strips that could share the ends of their chains on a bus.

    `members` are (strip, plugin from which on it is shared) ids; `chain` the plugins that one bus would hold.
    `linear_db` is the worst of what their null tests left, as far as they were made; None if one was not. With `sends`
    the members have sends, which leave before the bus: what they feed will sound without what is shared. Where settings
    differ, `differs` names the parameters, and all take the setting of the plugin `like` (a use's id).
    """

    into: str
    members: tuple[tuple[str, str], ...]
    chain: tuple[PluginUse, ...]
    linear_db: float | None
    sends: bool = False
    differs: tuple[str, ...] = ()
    like: str | None = None

    def decisions(self) -> tuple[Decision, ...]:
        """What a plan says to have it so."""
        return tuple(Decision("share", strip, use, into=self.into, like=self.like) for strip, use in self.members)


def groups(session: Session, cards: Cards) -> list[Group]:
    """Every group of two strips or more, with the longest end of their chains that is the same on all of them.

    A plugin that listens to a side-chain is not shared, nor what stands before it. A chain whose end can be shared
    without another sound is not made longer by a plugin that would change it. Strips with sends are kept apart.
    """
    ends: dict[SharedKey, list[Strip]] = {}
    for strip in session.strips:
        shared = _end(strip)
        if shared and strip.output is not None and strip.enabled and strip.frozen_through is None:
            ends.setdefault((strip.output, shared[-1].card_key(), _sends(strip)), []).append(strip)
    found = []
    for (_, _, sends), strips in ends.items():
        if len(strips) < 2:
            continue
        length = 1
        chains = [_end(strip) for strip in strips]
        while all(len(chain) > length for chain in chains) and len({c[-length - 1].card_key() for c in chains}) == 1:
            if keeps_sound(chains[0][-length:], cards) and not keeps_sound(chains[0][-length - 1 :], cards):
                break
            length += 1
        members = tuple((strip.id, chain[-length].id) for strip, chain in zip(strips, chains, strict=True))
        chain = chains[0][-length:]
        found.append(Group(f"shared/{members[0][1]}", members, chain, _worst(chain, cards), sends))
    return found


def similar(session: Session, cards: Cards) -> list[Group]:
    """Groups whose chains end in one plugin set nearly alike: two parameters at most differ, by a quarter at most.

    Only of plugins for which one on a bus would be as good as exact in one setting. The setting that most of them have
    counts. Who ends in the very same setting only is in no such group: see `groups`.
    """
    ends: dict[tuple[object, ...], list[tuple[Strip, PluginUse]]] = {}
    for strip in session.strips:
        chain = _end(strip)
        if chain and strip.output is not None and strip.enabled and strip.frozen_through is None:
            last = chain[-1]
            make = (last.plugin.standard, last.plugin.identifier, last.channels, last.setting.state)
            if keeps_sound((last,), cards):
                ends.setdefault((strip.output, _sends(strip), *make), []).append((strip, last))
    found = []
    for members in ends.values():
        counts = Counter(use.card_key() for _, use in members)
        most = max((use for _, use in members), key=lambda use: counts[use.card_key()])
        near = [(strip, use) for strip, use in members if is_near(use, most)]
        differs = sorted({name for _, use in near for name in differing(use, most)})
        if len(near) > 1 and differs:
            ids = tuple((strip.id, use.id) for strip, use in near)
            depth = _worst((most,), cards)
            found.append(
                Group(f"alike/{ids[0][1]}", ids, (most,), depth, _sends(members[0][0]), tuple(differs), most.id)
            )
    return found


def differing(one: PluginUse, other: PluginUse) -> list[str]:
    """The names of the parameters that two uses of one plugin have at other values."""
    mine, yours = dict(one.setting.values), dict(other.setting.values)
    return sorted(name for name in mine.keys() | yours.keys() if mine.get(name) != yours.get(name))


def is_near(one: PluginUse, other: PluginUse) -> bool:
    """Whether two uses of one plugin are set alike, or nearly: see `similar`."""
    mine, yours = dict(one.setting.values), dict(other.setting.values)
    names = differing(one, other)
    return len(names) <= NEAR_VALUES and all(
        name in mine
        and name in yours
        and abs(mine[name] - yours[name]) <= NEAR_SHARE * max(abs(mine[name]), abs(yours[name]))
        for name in names
    )


def keeps_sound(chain: tuple[PluginUse, ...], cards: Cards) -> bool:
    """Whether one chain for several is as good as exact: as measured, else as its plugins' families let expect."""
    return all(
        depth <= NEAR_DB if (depth := linear_db(use, cards)) is not None else use.family in LINEAR for use in chain
    )


def linear_db(use: PluginUse, cards: Cards) -> float | None:
    """What the null test of a plugin left (dB); None if it was not made."""
    card = cards.get(use.card_key())
    return card.truth.linear_db if card is not None and card.truth is not None else None


def _sends(strip: Strip) -> bool:
    return any(send.enabled for send in strip.sends)


def _end(strip: Strip) -> tuple[PluginUse, ...]:
    """The inserts that are on, from the last one back to the first that listens to another track."""
    found: list[PluginUse] = []
    for use in reversed(strip.inserts):
        if use.sidechain is not None:
            break
        if use.enabled:
            found.append(use)
    return tuple(reversed(found))


def _worst(chain: tuple[PluginUse, ...], cards: Cards) -> float | None:
    depths = [linear_db(use, cards) for use in chain]
    known = [depth for depth in depths if depth is not None]
    return max(known) if len(known) == len(depths) else None
