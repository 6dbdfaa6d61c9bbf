"""Where one plugin could do the work of several: tracks that end in the same chain and feed the same strip."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import Literal, NamedTuple

from ..cards.card import NEAR_DB, Cards, Truth
from ..session.plugins import CardKey, Family, PluginUse
from ..session.session import Session
from ..session.strips import Send, Strip
from .decision import Decision

# Plugins of these families are as a rule linear: what is known of them before any null test.
LINEAR: tuple[Family, ...] = ("equaliser", "reverb", "delay")
# Settings are nearly alike while no more parameters than this have other values, none by more than this share.
NEAR_VALUES, NEAR_SHARE = 2, 0.25
# Why one on a bus would not sound as one on each track: it moves behind faders that stand apart to left and right,
# or that ride, or before sends that are not the same on all.
Fault = Literal["", "pan", "fader", "sends"]
SendKey = tuple[tuple[str, float, bool], ...]


class Group(NamedTuple):
    """Strips that could share the ends of their chains on a bus.

    `members` are (strip, plugin from which on it is shared) ids; `chain` the plugins that one bus would hold.
    `null_db` is the worst of what their null tests left, as far as they were made; None if one was not. `sends` are
    what all members send at their ends, which the bus would carry. `fault` says why the sound would change whatever
    was measured. Where settings differ, `differs` names the parameters, and all take the setting of the plugin `like`
    (a use's id).
    """

    into: str
    members: tuple[tuple[str, str], ...]
    chain: tuple[PluginUse, ...]
    null_db: float | None
    fault: Fault = ""
    sends: tuple[Send, ...] = ()
    differs: tuple[str, ...] = ()
    like: str | None = None

    def decisions(self) -> tuple[Decision, ...]:
        """What a plan says to have it so."""
        return tuple(Decision("share", strip, use, into=self.into, like=self.like) for strip, use in self.members)

    @property
    def keeps_sound(self) -> bool:
        """Whether a null test has shown that it is as good as exact, and nothing else speaks against it."""
        return not self.fault and self.null_db is not None and self.null_db <= NEAR_DB


def groups(session: Session, cards: Cards) -> list[Group]:
    """Every group of two strips or more, with the longest end of their chains that is the same on all of them.

    A plugin that listens to a side-chain or is automated is not shared, nor what stands before it. A chain whose end
    can be shared without another sound is not made longer by a plugin that would change it. Sends at the end must be
    equal on all members; tracks that are panned, or whose fader rides, are kept apart unless a null test has found that
    it makes no difference. What is left so can be shared with another sound: a group with a `fault`.
    """
    exact: dict[tuple[str, CardKey, Fault, SendKey], list[Strip]] = {}
    left: dict[tuple[str, CardKey, Fault], list[Strip]] = {}
    for strip in session.strips:
        chain = shareable_end(strip)
        if chain and strip.output is not None and strip.enabled and strip.frozen_through is None:
            last = chain[-1]
            key = (strip.output, last.card_key(), fault_of(strip, last, (last,), cards), late_sends(strip))
            exact.setdefault(key, []).append(strip)
    found = []
    for (output, last_key, fault, _), strips in exact.items():
        if len(strips) > 1 and not fault:
            found.append(_group(strips, cards, fault))
        else:
            why: Fault = fault or ("sends" if late_sends(strips[0]) else "")
            left.setdefault((output, last_key, why), []).extend(strips)
    for (_, _, fault), strips in left.items():
        if len(strips) > 1 and fault:
            found.append(_group(strips, cards, fault))
    order = {strip.id: k for k, strip in enumerate(session.strips)}
    return sorted(found, key=lambda group: order[group.members[0][0]])


def _group(strips: list[Strip], cards: Cards, fault: Fault) -> Group:
    chains = [shareable_end(strip) for strip in strips]
    length = 1
    while all(len(chain) > length for chain in chains) and len({c[-length - 1].card_key() for c in chains}) == 1:
        if keeps_sound(chains[0][-length:], cards) and not keeps_sound(chains[0][-length - 1 :], cards):
            break
        if any(
            fault_of(s, c[-length - 1], c[-length - 1 :], cards) != fault for s, c in zip(strips, chains, strict=True)
        ):
            break
        length += 1
    members = tuple((strip.id, chain[-length].id) for strip, chain in zip(strips, chains, strict=True))
    shared = chains[0][-length:]
    depths = [_depth(shared, cards, strip, chain[-length]) for strip, chain in zip(strips, chains, strict=True)]
    worst = None if any(depth is None for depth in depths) else max(d for d in depths if d is not None)
    sends = () if fault == "sends" else tuple(Send(*each) for each in late_sends(strips[0]))
    return Group(f"shared/{members[0][1]}", members, shared, worst, fault, sends)


def similar(session: Session, cards: Cards) -> list[Group]:
    """Groups whose chains end in one plugin set nearly alike: two parameters at most differ, by a quarter at most.

    Only of plugins for which one on a bus would be as good as exact in one setting. The setting that most of them have
    counts. Who ends in the very same setting only is in no such group: see `groups`.
    """
    ends: dict[tuple[object, ...], list[tuple[Strip, PluginUse]]] = {}
    for strip in session.strips:
        chain = shareable_end(strip)
        if chain and strip.output is not None and strip.enabled and strip.frozen_through is None:
            last = chain[-1]
            make = (last.plugin.standard, last.plugin.identifier, last.channels, last.setting.state)
            if keeps_sound((last,), cards):
                ends.setdefault((strip.output, late_sends(strip), *make), []).append((strip, last))
    found = []
    for members in ends.values():
        counts = Counter(use.card_key() for _, use in members)
        most = max((use for _, use in members), key=lambda use: counts[use.card_key()])
        near = [(strip, use) for strip, use in members if is_near(use, most)]
        differs = sorted({name for _, use in near for name in differing(use, most)})
        if len(near) > 1 and differs:
            ids = tuple((strip.id, use.id) for strip, use in near)
            depth = _linear(most, cards)
            sends = tuple(Send(*each) for each in late_sends(members[0][0]))
            found.append(Group(f"alike/{ids[0][1]}", ids, (most,), depth, "", sends, tuple(differs), most.id))
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
        depth <= NEAR_DB if (depth := _linear(use, cards)) is not None else use.family in LINEAR for use in chain
    )


def truth_of(use: PluginUse, cards: Cards) -> Truth | None:
    """What is known of a plugin's truthfulness; None if it was not tried. A stand-in's truth is not this plugin's."""
    card = cards.get(use.card_key())
    return card.truth if card is not None else None


def _linear(use: PluginUse, cards: Cards) -> float | None:
    truth = truth_of(use, cards)
    return truth.linear_db if truth is not None else None


def moves_behind_fader(strip: Strip, first: PluginUse) -> bool:
    """Whether an insert of a strip stands before its fader, so that on a bus it would come after it."""
    return strip.place_of(first.id) <= strip.last_before_fader


def fault_of(strip: Strip, first: PluginUse, chain: Iterable[PluginUse], cards: Cards) -> Fault:
    """Why a strip's chain from `first` on would sound different on a bus, however it is measured; "" if it need not."""
    if not moves_behind_fader(strip, first):
        return ""
    truths = [truth_of(use, cards) for use in chain]
    if strip.rides and not all(t is not None and t.ride_db is not None and t.ride_db <= NEAR_DB for t in truths):
        return "fader"
    if strip.pan and not all(t is not None and t.pan_db is not None and t.pan_db <= NEAR_DB for t in truths):
        return "pan"
    pre_fader = any(send.pre_fader for send in strip.sends if send.enabled and is_late(strip, send))
    return "sends" if pre_fader and (strip.volume != 1.0 or strip.pan or strip.rides) else ""


def _depth(chain: tuple[PluginUse, ...], cards: Cards, strip: Strip, first: PluginUse) -> float | None:
    """The worst of the null tests that matter for a strip (dB); None if one of them was not made."""
    found: list[float] = []
    for use in chain:
        truth = truth_of(use, cards)
        needed = [truth.linear_db if truth is not None else None]
        if truth is not None and moves_behind_fader(strip, first):
            needed += [truth.pan_db] if strip.pan else []
            needed += [truth.ride_db] if strip.rides else []
        for depth in needed:
            if depth is None:
                return None
            found.append(depth)
    return max(found, default=None)


def is_late(strip: Strip, send: Send) -> bool:
    """Whether a send leaves at the end of the chain."""
    return send.after is None or send.after >= len(strip.inserts) - 1


def late_sends(strip: Strip) -> SendKey:
    """What a strip sends at the end of its chain: target, level and whether before the fader, in a fixed order."""
    own = (send for send in strip.sends if send.enabled and is_late(strip, send))
    return tuple(sorted((send.target, send.level, send.pre_fader) for send in own))


def shareable_end(strip: Strip) -> tuple[PluginUse, ...]:
    """The inserts that are on, from the last one back to the first that listens to another track, is automated or
    feeds a send."""
    found: list[PluginUse] = []
    leaving = {send.after for send in strip.sends if send.enabled and not is_late(strip, send)}
    for place in range(len(strip.inserts) - 1, -1, -1):
        use = strip.inserts[place]
        if use.sidechain is not None or (use.automated and use.enabled) or place in leaving:
            break
        if use.enabled:
            found.append(use)
    return tuple(reversed(found))
