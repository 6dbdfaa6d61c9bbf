"""Every decision that a suggested plan could take, with its price and what it saves."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..cards.card import NEAR_DB, PROVENANCES
from ..decisions.alike import Group, groups
from ..decisions.options import freeze_bytes
from ..decisions.plan import Decision, DecisionKind, obstacle
from ..load.costs import PerKey, keys_at
from ..piece.moments import FULL, SILENT
from ..session.plugins import CardKey, PluginUse, Variant
from ..session.strips import Strip
from ..survey import Survey

# For each card key, the names of its variants and what a use costs in them (2, N, seconds: see `candidates`).
Lighter = dict[CardKey, list[tuple[str, NDArray[np.float64]]]]


class Weights(msgspec.Struct, frozen=True):
    """What hurts: the price of one decision of each kind, and of a hundred megabytes of disk."""

    freeze: float = 1.0
    source: float = 0.8
    suspend: float = 0.2
    lighten: float = 0.9
    share: float = 0.5
    disk: float = 0.1

    def freezing(self, through: int) -> float:
        """The price of a freeze up to a place of the chain, without its disk space."""
        return self.source if through == -1 else self.freeze


PRESETS: dict[str, Weights] = {
    "balanced": Weights(),
    "keep the sound": Weights(lighten=4.0),
    "keep it editable": Weights(freeze=3.0, source=2.5, lighten=0.5),
}
KINDS: tuple[DecisionKind, ...] = ("freeze", "suspend", "lighten", "share")


class Wishes(NamedTuple):
    """What a plan may do: `limit` (fraction), what hurts, strips that stay as they are, and kinds allowed.

    `disk` is how many bytes all freezes together may take, None if that does not matter.
    """

    limit: float = 0.8
    weights: Weights = Weights()
    pinned: frozenset[str] = frozenset()
    kinds: tuple[DecisionKind, ...] = KINDS
    disk: float | None = None


def wishes_for(of: Survey, weights: Weights, kinds: Sequence[DecisionKind]) -> Wishes:
    """What a suggestion for this survey may do: the session's own limit, and its pinned tracks."""
    return Wishes(of.session.limit, weights, frozenset(of.plan.pinned), tuple(kinds))


class Candidate(NamedTuple):
    """One decision that a plan could take: its price, and what it saves of its strip in each state (N, seconds).

    The states are those of `Moments`. `beside` (N) is what it saves of what the cores take from each other; `disk` the
    bytes that it writes. What is shared has `others` too: decisions with what each saves of its own strip; and costs
    `bus` (N, seconds) on a bus of its own, which sounds while one of them does.
    """

    decision: Decision
    strip: int
    price: float
    saves: NDArray[np.float64]
    beside: NDArray[np.float64]
    disk: float = 0.0
    others: tuple[Candidate, ...] = ()
    bus: NDArray[np.float64] | None = None

    def decisions(self) -> tuple[Decision, ...]:
        """Everything that is decided with it."""
        return (self.decision, *(other.decision for other in self.others))

    def strips(self) -> tuple[int, ...]:
        return (self.strip, *(other.strip for other in self.others))

    def saved(self, states: NDArray[np.int16], on: NDArray[np.float64] | None = None) -> tuple[float, float]:
        """What it saves in a moment (states: S), and of what cores take from each other: seconds each.

        With `on` (S), only so much of what it saves of each strip; the bus that it needs does not count then: it may
        stand elsewhere.
        """
        saves = beside = 0.0
        for part in (self, *self.others):
            state, share = states[part.strip], 1.0 if on is None else float(on[part.strip])
            saves, beside = saves + share * float(part.saves[state]), beside + share * float(part.beside[state])
        if self.bus is not None and on is None:
            saves -= float(self.bus[FULL if states[list(self.strips())].any() else SILENT])
        return saves, beside


def candidates(of: Survey, wishes: Wishes) -> list[Candidate]:
    """Every decision that could be taken in addition to the plan, with its price and what it saves."""
    session, costs = of.session, of.costs[of.buffer]
    numbers = {key: k for k, key in enumerate(of.planned.uses.keys)}
    variants = _variant_costs(of)
    host, states = session.host, len(costs.by_state)
    asleep = np.arange(states) == SILENT
    taken = {d.strip for d in of.plan.decisions if d.use is None}
    taken_uses = {d.use for d in of.plan.decisions if d.use is not None}
    found = []
    sharing = _sharing(of, wishes)
    before = {strip: of.session.strip(strip).place_of(use) - 1 for group in sharing for strip, use in group.members}

    def cost(use: PluginUse, strip: int) -> NDArray[np.float64]:
        """Its own cost on a strip and what it loses beside others (2, N, seconds)."""
        number = numbers[use.card_key()]
        each = costs.each if of.planned.live[strip] else costs.ahead
        return np.array([each.seconds[:, number], each.beside[:, number]]) / of.machine.speed

    for index, strip in enumerate(session.strips):
        if strip.id in wishes.pinned or not strip.enabled:
            continue
        live = [(place, use) for place, use in strip.places() if use.enabled and use.id not in taken_uses]
        if strip.id not in taken:
            for through in _freezes(strip, before.get(strip.id)) if "freeze" in wishes.kinds else ():
                decision = Decision("freeze", strip.id, through=through)
                inside = [use for place, use in live if place <= through]
                if obstacle(strip, decision) is None and inside:
                    saves, beside = sum((cost(use, index) for use in inside), np.zeros((2, states)))
                    calls = costs.calls[index] / of.machine.speed
                    saves = saves + len(inside) * host.plugin_overhead * calls
                    disk = freeze_bytes(strip, session.rate)
                    price = wishes.weights.freezing(through) + disk / 1e8 * wishes.weights.disk
                    found.append(Candidate(decision, index, price, saves, beside, disk))
            if "suspend" in wishes.kinds and live and obstacle(strip, Decision("suspend", strip.id)) is None:
                saves, beside = sum((cost(use, index) for _, use in live), np.zeros((2, states))) * asleep
                suspend = Decision("suspend", strip.id)
                found.append(Candidate(suspend, index, wishes.weights.suspend, saves, beside))
        for _, use in live if "lighten" in wishes.kinds else ():
            for name, lighter in variants[bool(of.planned.live[index])].get(use.card_key(), ()):
                saves, beside = cost(use, index) - lighter
                if saves.max() > 0:
                    decision = Decision("lighten", strip.id, use.id, variant=name)
                    found.append(Candidate(decision, index, wishes.weights.lighten, saves, beside))
    return found + [_shared(of, group, wishes, cost) for group in sharing]


def _sharing(of: Survey, wishes: Wishes) -> list[Group]:
    """The groups that may share: their sound stays (null test, no sends), and none is pinned or decided about."""
    if "share" not in wishes.kinds:
        return []
    taken = {decision.strip for decision in of.plan.decisions}
    return [
        group
        for group in groups(of.session, of.planned.cards)
        if group.linear_db is not None
        and group.linear_db <= NEAR_DB
        and not group.sends
        and not any(strip in taken or strip in wishes.pinned for strip, _ in group.members)
    ]


def _shared(
    of: Survey, group: Group, wishes: Wishes, cost: Callable[[PluginUse, int], NDArray[np.float64]]
) -> Candidate:
    """Sharing as one candidate with all its members."""
    numbers = {strip.id: k for k, strip in enumerate(of.session.strips)}
    calls, host = of.costs[of.buffer].calls / of.machine.speed, of.session.host

    def member(decision: Decision, strip: int) -> Candidate:
        saves, beside = sum((cost(use, strip) for use in group.chain), np.zeros_like(cost(group.chain[0], strip)))
        return Candidate(
            decision, strip, 0.0, saves + host.plugin_overhead * len(group.chain) * calls[strip], beside
        )  # fmt: skip

    each = [member(decision, numbers[decision.strip]) for decision in group.decisions()]
    # What a live strip feeds is live too.
    most = next((one for one in each if of.planned.live[one.strip]), each[0])
    bus = most.saves + host.strip_overhead * calls[most.strip]
    return each[0]._replace(price=wishes.weights.share, others=tuple(each[1:]), bus=bus)


def _freezes(strip: Strip, before: int | None) -> list[int]:
    """How far a strip could be frozen: the source alone, the chain up to the fader, or up to what it could share."""
    last = strip.last_before_fader if strip.last_before_fader >= 0 else len(strip.inserts) - 1
    found = {-1, last} if strip.instrument is not None else {last}
    if before is not None and before >= min(found):
        found.add(before)
    return sorted(found)


def _variant_costs(of: Survey) -> dict[bool, Lighter]:
    """What uses cost in their variants, on live strips (True) and on others."""
    variants = of.session.variant_uses()
    each, ahead = keys_at(of.planned, of.machine, of.buffer, tuple(variants))
    return {True: _lighter(of, variants, each), False: _lighter(of, variants, ahead)}


def _lighter(of: Survey, variants: Mapping[CardKey, tuple[Variant, PluginUse]], each: PerKey) -> Lighter:
    found: Lighter = {}
    for number, (variant, _) in enumerate(variants.values()):
        if each.source[FULL, number] != PROVENANCES.index("unknown"):
            cost = np.array([each.seconds[:, number], each.beside[:, number]]) / of.machine.speed
            found.setdefault(variant.of, []).append((variant.name, cost))
    return found
