"""Where one plugin could do the work of several: tracks that end in the same chain and feed the same strip."""

from __future__ import annotations

from typing import NamedTuple

from .card import Cards
from .plan import Decision
from .rhythm import NEAR_DB
from .session import Family, PluginUse, Session, Strip

# Plugins of these families are as a rule linear: what is known of them before any null test.
LINEAR: tuple[Family, ...] = ("equaliser", "reverb", "delay")
SharedKey = tuple[str | None, object, bool]


class Group(NamedTuple):
    """Strips that could share the ends of their chains on a bus.

    `members` are (strip, plugin from which on it is shared) ids; `chain` the plugins that one bus would hold.
    `linear_db` is the worst of what their null tests left, as far as they were made; None if one was not. With `sends`
    the members have sends, which leave before the bus: what they feed will sound without what is shared.
    """

    into: str
    members: tuple[tuple[str, str], ...]
    chain: tuple[PluginUse, ...]
    linear_db: float | None
    sends: bool = False

    def decisions(self) -> tuple[Decision, ...]:
        """What a plan says to have it so."""
        return tuple(Decision("share", strip, use, into=self.into) for strip, use in self.members)


def groups(session: Session, cards: Cards) -> list[Group]:
    """Every group of two strips or more, with the longest end of their chains that is the same on all of them.

    A plugin that listens to a side-chain is not shared, nor what stands before it. A chain whose end can be shared
    without another sound is not made longer by a plugin that would change it. Strips with sends are kept apart.
    """
    ends: dict[SharedKey, list[Strip]] = {}
    for strip in session.strips:
        shared = _end(strip)
        if shared and strip.output is not None and strip.enabled and strip.frozen_through is None:
            sends = any(send.enabled for send in strip.sends)
            ends.setdefault((strip.output, shared[-1].card_key(), sends), []).append(strip)
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


def keeps_sound(chain: tuple[PluginUse, ...], cards: Cards) -> bool:
    """Whether one chain for several is as good as exact: as measured, else as its plugins' families let expect."""
    return all(
        depth <= NEAR_DB if (depth := linear_db(use, cards)) is not None else use.family in LINEAR for use in chain
    )


def linear_db(use: PluginUse, cards: Cards) -> float | None:
    """What the null test of a plugin left (dB); None if it was not made."""
    card = cards.get(use.card_key())
    return card.truth.linear_db if card is not None and card.truth is not None else None


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
