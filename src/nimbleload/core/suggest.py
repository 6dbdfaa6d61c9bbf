"""The plan that gives up least: the fewest and cheapest decisions that keep every moment under the limit.

A mixed-integer program over sums of work and over chains, then checked by the block computation; the moment or chain
that is still over the limit becomes a constraint, until all hold. Its constraints never ask for more than the block
computation would, so its price is a lower bound for every plan (but for what caches give back; see `Suggestion`).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

from .block import schedule
from .card import PROVENANCES
from .graph import upstream
from .load import Prepared, at_moments, beside_at, costs, load_map, per_key
from .options import freeze_bytes
from .plan import Decision, DecisionKind, Plan, obstacle
from .session import CardKey, PluginUse, Session, Strip, deadline
from .survey import Survey, with_plan, worst_load
from .verdict import percent

ROUNDS = 60
SOLVER_SECONDS = 2.0
SMALL = 20
HOLDS = 1e-9
# So many moments over the limit become constraints in one round.
AT_ONCE = 4


class Weights(msgspec.Struct, frozen=True):
    """What hurts: the price of one decision of each kind, and of a hundred megabytes of disk."""

    freeze: float = 1.0
    source: float = 0.8
    suspend: float = 0.2
    lighten: float = 0.9
    disk: float = 0.1

    def of(self, kind: DecisionKind, through: int | None) -> float:
        if kind == "freeze":
            return self.source if through == -1 else self.freeze
        return {"suspend": self.suspend, "lighten": self.lighten}.get(kind, 10.0)


PRESETS: dict[str, Weights] = {
    "balanced": Weights(),
    "keep the sound": Weights(lighten=4.0),
    "keep it editable": Weights(freeze=3.0, source=2.5, lighten=0.5),
}
KINDS: tuple[DecisionKind, ...] = ("freeze", "suspend", "lighten")


class Wishes(NamedTuple):
    """What a plan may do: `limit` (fraction), what hurts, strips that stay as they are, and kinds allowed."""

    limit: float = 0.8
    weights: Weights = Weights()
    pinned: frozenset[str] = frozenset()
    kinds: tuple[DecisionKind, ...] = KINDS


class Candidate(NamedTuple):
    """One decision that a plan could take: its price, and what it saves of its strip (2, seconds: sounding, silent).

    `beside` (2) is what it saves of what the cores take from each other.
    """

    decision: Decision
    strip: int
    price: float
    saves: NDArray[np.float64]
    beside: NDArray[np.float64]


class Step(NamedTuple):
    """One decision of a suggested plan, in the order in which they save most; `load` is the worst load after it."""

    decision: Decision
    words: str
    price: float
    load: float


class Suggestion(NamedTuple):
    """A suggested plan. `load` is its worst load, `price` what it gives up, `least` the least that any plan must.

    `reached` is false if no plan of these kinds gets under the limit; `obstacle` then says what stands in the way.
    Taking a plugin out leaves more of the caches to the others, which the program does not know: the true least price
    may be lower by what that gives.
    """

    plan: Plan
    steps: tuple[Step, ...]
    load: float
    price: float
    least: float
    reached: bool
    obstacle: str

    @property
    def gap(self) -> float:
        """How far its price may be above the least possible one, as a fraction of it."""
        return max(self.price - self.least, 0.0) / self.price if self.price > 0 else 0.0


def suggest(of: Survey, wishes: Wishes | None = None) -> Suggestion:
    """The plan that gives up least so that no moment exceeds the limit at the survey's buffer size.

    Decisions that the survey's plan has taken already stay, and cost nothing more.
    """
    wishes = wishes or Wishes(of.session.limit, pinned=frozenset(of.plan.pinned))
    program = _Program(of, wishes)
    chosen = program.solve()
    while chosen is not None and program.rounds < ROUNDS:
        if not program.tighten(chosen):
            break
        chosen = program.solve()
    if chosen is None or not program.holds(chosen):
        chosen = program.as_low_as_possible()
    chosen = program.without_needless(chosen)
    return program.told(chosen)


def candidates(of: Survey, wishes: Wishes) -> list[Candidate]:
    """Every decision that could be taken in addition to the plan, with its price and what it saves."""
    session, each = of.session, of.costs[of.buffer].each
    numbers = {key: k for k, key in enumerate(of.planned.uses.keys)}
    variants = _variant_costs(of)
    host = session.host
    taken = {d.strip for d in of.plan.decisions if d.use is None}
    taken_uses = {d.use for d in of.plan.decisions if d.use is not None}
    found = []

    def cost(use: PluginUse) -> NDArray[np.float64]:
        """Its own cost and what it loses beside others (2, 2, seconds)."""
        number = numbers[use.card_key()]
        return np.array([each.seconds[:, number], each.beside[:, number]]) / of.machine.speed

    for index, strip in enumerate(session.strips):
        if strip.id in wishes.pinned or not strip.enabled:
            continue
        live = [(place, use) for place, use in strip.places() if use.enabled and use.id not in taken_uses]
        if strip.id not in taken:
            for through in _freezes(strip) if "freeze" in wishes.kinds else ():
                decision = Decision("freeze", strip.id, through=through)
                inside = [use for place, use in live if place <= through]
                if obstacle(strip, decision) is None and inside:
                    saves, beside = sum((cost(use) for use in inside), np.zeros((2, 2)))
                    saves = saves + len(inside) * host.plugin_overhead / of.machine.speed
                    disk = freeze_bytes(strip, session.rate) / 1e8 * wishes.weights.disk
                    price = wishes.weights.of("freeze", through) + disk
                    found.append(Candidate(decision, index, price, saves, beside))
            if "suspend" in wishes.kinds and live and obstacle(strip, Decision("suspend", strip.id)) is None:
                saves, beside = sum((cost(use) for _, use in live), np.zeros((2, 2))) * [0.0, 1.0]
                suspend = Decision("suspend", strip.id)
                found.append(Candidate(suspend, index, wishes.weights.suspend, saves, beside))
        for _, use in live if "lighten" in wishes.kinds else ():
            for name, lighter in variants.get(use.card_key(), ()):
                saves, beside = cost(use) - lighter
                if saves.max() > 0:
                    decision = Decision("lighten", strip.id, use.id, variant=name)
                    found.append(Candidate(decision, index, wishes.weights.lighten, saves, beside))
    return found


def _freezes(strip: Strip) -> list[int]:
    last = len(strip.inserts) - 1
    return sorted({-1, last} if strip.instrument is not None else {last})


def _variant_costs(of: Survey) -> dict[CardKey, list[tuple[str, NDArray[np.float64]]]]:
    """For each card key, the names of its variants and what a use costs in them (2, 2, seconds: see `candidates`)."""
    variants = of.session.variant_uses()
    each = per_key(of.planned, of.machine, of.buffer, tuple(variants))
    found: dict[CardKey, list[tuple[str, NDArray[np.float64]]]] = {}
    for number, (variant, _) in enumerate(variants.values()):
        if each.source[0, number] != PROVENANCES.index("unknown"):
            cost = np.array([each.seconds[:, number], each.beside[:, number]]) / of.machine.speed
            found.setdefault(variant.of, []).append((variant.name, cost))
    return found


class _Program:
    """The mixed-integer program of one suggestion, which grows by what the block computation finds."""

    def __init__(self, of: Survey, wishes: Wishes) -> None:
        self.of, self.wishes = of, wishes
        self.candidates = candidates(of, wishes)
        self.prices = np.array([c.price for c in self.candidates])
        self.rounds = 0
        self.least = 0.0
        self._exact = True
        self._rows: list[NDArray[np.float64]] = []
        self._needed: list[float] = []
        self._moments: dict[int, int] = {}
        self._last = self._last_strip()
        self._chains: set[tuple[int, tuple[int, ...]]] = set()
        self._excluding()
        block = deadline(of.buffer, of.session.rate)
        self._allowed = wishes.limit * block
        self.tighten(np.zeros(len(self.candidates), np.bool_))

    def _excluding(self) -> None:
        """At most one decision about the same plugins: one for each strip, and none inside what is frozen."""
        self._exclusive: list[NDArray[np.float64]] = []
        by_strip: dict[int, list[int]] = {}
        for number, candidate in enumerate(self.candidates):
            by_strip.setdefault(candidate.strip, []).append(number)
        for numbers in by_strip.values():
            whole = [n for n in numbers if self.candidates[n].decision.use is None]
            uses: dict[str, list[int]] = {}
            for n in numbers:
                use = self.candidates[n].decision.use
                if use is not None:
                    uses.setdefault(use, []).append(n)
            groups = [whole] if len(whole) > 1 else []
            for use, own in uses.items():
                frozen = [n for n in whole if self._covers(self.candidates[n], use)]
                groups.append([*frozen, *own])
            for group in groups:
                if len(group) > 1:
                    row = np.zeros(len(self.candidates))
                    row[group] = 1
                    self._exclusive.append(row)

    def _covers(self, candidate: Candidate, use_id: str) -> bool:
        decision, strip = candidate.decision, self.of.session.strips[candidate.strip]
        return decision.kind == "freeze" and strip.place_of(use_id) <= (decision.through or 0)

    def plan(self, chosen: NDArray[np.bool_]) -> Plan:
        made = self.of.plan
        for number in np.flatnonzero(chosen):
            made = made.decide(self.candidates[number].decision)
        return made

    def solve(self) -> NDArray[np.bool_] | None:
        """The cheapest decisions that meet all constraints so far (bool for each candidate); None if none do."""
        from scipy.optimize import Bounds, LinearConstraint, milp  # imported here: it would lengthen every start

        self.rounds += 1
        count = len(self.candidates)
        if not self._rows:
            return np.zeros(count, np.bool_)
        if not count:
            return None
        constraints = [LinearConstraint(np.array(self._rows), np.array(self._needed), np.inf)]
        if self._exclusive:
            constraints.append(LinearConstraint(np.array(self._exclusive), -np.inf, 1.0))
        solved = milp(
            self.prices, constraints=constraints, bounds=Bounds(0, 1), integrality=np.ones(count),
            options={"time_limit": SOLVER_SECONDS, "mip_rel_gap": 1e-6},
        )  # fmt: skip
        if solved.x is None:
            return None
        if self._exact:
            self.least = max(self.least, float(solved.mip_dual_bound or 0.0))
        found: NDArray[np.bool_] = solved.x > 0.5
        return found

    def tighten(self, chosen: NDArray[np.bool_]) -> bool:
        """Adds what this choice still breaks as constraints; false if it breaks nothing."""
        of = self.of
        after = with_plan(of, self.plan(chosen))
        loads = load_map(after, of.machine, of.buffer)
        over = np.flatnonzero(loads.load > self.wishes.limit + HOLDS)
        if not len(over):
            return False
        order = over[np.argsort(-loads.load[over], kind="stable")]
        added: set[int] = set()
        for moment in order:
            second = float(loads.times[moment : moment + 2].mean())
            row = of.planned.moments.at(second)
            kind = int(of.planned.moments.of[row])
            if kind not in added:
                added.add(kind)
                self._add(kind, of.planned.moments.distinct[kind], float(loads.load[moment]), after, chosen)
            if len(added) >= AT_ONCE:
                break
        return True

    def _add(
        self, kind: int, sounding: NDArray[np.bool_], load: float, after: Prepared, chosen: NDArray[np.bool_]
    ) -> None:
        """One more constraint for a kind of moment: its work, else its chain, else a step beyond both."""
        of, threads = self.of, self.of.threads
        each, beside = at_moments(of.costs[of.buffer], sounding), beside_at(of.costs[of.buffer], sounding)
        condition = [0 if sounding[c.strip] else 1 for c in self.candidates]
        saves = np.array([c.saves[k] for c, k in zip(self.candidates, condition, strict=True)])
        whole = float(each.sum() + (beside.sum() if threads > 1 else 0.0)) / threads
        if kind not in self._moments:
            self._moments[kind] = len(self._rows)
            # Work that is left, and what the cores take from each other, spread over all threads; and the same work
            # with the last strip alone after all others.
            extra = np.array([c.beside[k] for c, k in zip(self.candidates, condition, strict=True)])
            self._demand((saves + (extra if threads > 1 else 0)) / threads, whole)
            if self._last is not None and threads > 1:
                on_last = np.array([c.strip == self._last for c in self.candidates])
                alone = float(each[self._last])
                self._demand(np.where(on_last, saves, saves / threads), (float(each.sum()) - alone) / threads + alone)
            return
        row = at_moments(costs(after, of.machine, of.buffer), sounding)
        chain = schedule(after.graph, row, threads).chain
        if (kind, chain) not in self._chains and float(row[list(chain)].sum()) > self._allowed:
            self._chains.add((kind, chain))
            on_chain = np.isin([c.strip for c in self.candidates], chain)
            self._demand(np.where(on_chain, saves, 0.0), float(each[list(chain)].sum()))
        elif len(self.candidates) <= SMALL:
            # Too little was decided: at least one decision more, or another one.
            self._rows.append((~chosen).astype(float))
            self._needed.append(1.0)
        else:
            # The work does not spread evenly: ask for so much more of it as the block computation finds too much.
            self._exact = False
            number = self._moments[kind]
            allowed = whole - self._needed[number]
            self._needed[number] = whole - allowed * min(self.wishes.limit / load, 0.999)

    def _demand(self, saves: NDArray[np.float64], whole: float) -> None:
        """One more constraint: what is saved of `whole` (seconds) must leave no more than is allowed."""
        self._rows.append(saves)
        self._needed.append(whole - self._allowed)

    def _last_strip(self) -> int | None:
        """The strip that can only begin when all others are done, if there is one: as a rule the main output."""
        graph, session = self.of.planned.graph, self.of.planned.session
        last = int(graph.order[-1])
        after_all = len(upstream(session, graph.ids[last])) == len(graph.ids)
        return last if after_all and not session.host.read_ahead else None

    def worst(self, chosen: NDArray[np.bool_]) -> float:
        """The worst load with these decisions, by the block computation."""
        return worst_load(self.of, self.plan(chosen))

    def holds(self, chosen: NDArray[np.bool_]) -> bool:
        return self.worst(chosen) <= self.wishes.limit + HOLDS

    def as_low_as_possible(self) -> NDArray[np.bool_]:
        """For each strip what saves most, if nothing reaches the limit."""
        chosen = np.zeros(len(self.candidates), np.bool_)
        blocked = np.zeros(len(self.candidates), np.bool_)
        rank = sorted(range(len(self.candidates)), key=lambda n: -float(self.candidates[n].saves.sum()))
        for number in rank:
            if blocked[number] or self.candidates[number].saves.max() <= 0:
                continue
            chosen[number] = True
            for row in self._exclusive:
                if row[number]:
                    blocked |= row > 0
        return chosen

    def without_needless(self, chosen: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Takes back, dearest first, every decision without which the limit still holds (or the load is no higher)."""
        allowed = max(self.wishes.limit, self.worst(chosen)) + HOLDS
        kept = chosen.copy()
        for number in sorted(np.flatnonzero(chosen), key=lambda n: (-self.prices[n], -n)):
            kept[number] = False
            if self.worst(kept) > allowed:
                kept[number] = True
        return kept

    def told(self, chosen: NDArray[np.bool_]) -> Suggestion:
        """The plan with its decisions in the order in which they save most at the worst moment."""
        of = self.of
        sounding = of.planned.moments.sounding[of.after.worst]
        taken = [self.candidates[number] for number in np.flatnonzero(chosen)]
        taken.sort(key=lambda c: -float(c.saves[0 if sounding[c.strip] else 1]))
        made = _steps(of, of.plan, [(c.decision, c.price) for c in taken], float(of.after.load.max()))
        load = made[-1].load if made else float(of.after.load.max())
        plan = of.plan
        for step in made:
            plan = plan.decide(step.decision)
        price = float(self.prices[chosen].sum())
        reached = load <= self.wishes.limit + HOLDS
        least = min(self.least, price) if reached else price
        return Suggestion(plan, tuple(made), load, price, least, reached, self._in_the_way(reached, load))

    def _in_the_way(self, reached: bool, load: float) -> str:
        if reached:
            return ""
        of, pinned = self.of, self.wishes.pinned
        names = [s.name for s in of.session.strips if s.id in pinned]
        if names:
            return f"{percent(load)} is the lowest; {', '.join(names[:4])} stay as they are."
        buses = sum(1 for s in of.session.strips if s.kind != "track" and s.live_uses())
        return f"{percent(load)} is the lowest: {buses} buses and returns cannot be frozen, and armed tracks neither."


def steps(of: Survey) -> list[Step]:
    """The decisions of the plan in force, one after the other, with the worst load after each; they have no price."""
    free = [(decision, 0.0) for decision in of.plan.decisions]
    return _steps(of, Plan((), of.plan.pinned), free, float(of.before.load.max()))


def _steps(of: Survey, plan: Plan, priced: Sequence[tuple[Decision, float]], before: float) -> list[Step]:
    """What each decision brings when one after the other is taken into a plan whose worst load is `before`."""
    found = []
    for decision, price in priced:
        plan = plan.decide(decision)
        load = worst_load(of, plan)
        words = f"{told_as(of.session, decision)}: worst {percent(before)} → {percent(load)}"
        found.append(Step(decision, words, price, load))
        before = load
    return found


def told_as(session: Session, decision: Decision) -> str:
    """A decision in words: what it does to which track."""
    strip = session.strip(decision.strip)
    if decision.kind == "freeze":
        if decision.through == -1:
            return f"Freeze the instrument of {strip.name}"
        whole = decision.through is None or decision.through >= len(strip.inserts) - 1
        return f"Freeze {strip.name}" if whole else f"Freeze {strip.name} through insert {(decision.through or 0) + 1}"
    if decision.kind == "suspend":
        return f"Suspend {strip.name} while it is silent"
    label = next((u.label for u in strip.uses() if u.id == decision.use), "a plugin") if decision.use else ""
    if decision.kind == "lighten":
        return f"Lighten {label} on {strip.name}: {decision.variant}"
    if decision.kind == "disarm":
        return f"Disarm {strip.name}"
    if decision.kind == "bounce":
        return f"Bounce {strip.name}" if strip.kind == "track" else f"Bounce {strip.name} with all that feeds it"
    if decision.kind == "share":
        return f"Share {label} of {strip.name} on a bus"
    if decision.kind == "outboard":
        return f"Move {label} of {strip.name} outboard"
    return f"Switch off {label} on {strip.name}" if label else f"Switch off {strip.name}"


def alternatives(of: Survey, wishes: Wishes) -> dict[str, Suggestion]:
    """Three plans on the trade-off curve: least given up, fewest decisions, most headroom."""
    same = Weights(freeze=1.0, source=1.0, suspend=1.0, lighten=1.0, disk=0.0)
    return {
        "least given up": suggest(of, wishes),
        "fewest decisions": suggest(of, wishes._replace(weights=same)),
        "most headroom": suggest(of, wishes._replace(limit=wishes.limit - 0.1)),
    }
