"""The plan that gives up least: the fewest and cheapest decisions that keep every moment under the limit.

A mixed-integer program over sums of work and over chains, then checked by the block computation; the moment or chain
that is still over the limit becomes a constraint, until all hold. Its constraints never ask for more than the block
computation would, so its price is a lower bound for every plan (but for what caches give back; see `Suggestion`).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.play import in_a_row
from ..decisions.plan import Plan
from ..decisions.regroup import chain_from
from ..load.costs import at_moments, beside_at, costs
from ..load.load_map import load_map, played
from ..load.prepared import Prepared
from ..session.computer import deadline
from ..session.routing import upstream
from ..survey import Survey, middle, with_plan
from ..told.steps import Step, _steps
from ..units import percent
from .candidates import Candidate, Wishes, candidates

ROUNDS = 60
SOLVER_SECONDS = 10.0
# With more candidates than this the program is solved without whole numbers, and its answer rounded up.
MANY = 150
# It is refined if another plan might be so much cheaper (fraction), in so many rounds of so many branches.
WORTH, REFINING, BRANCHES = 0.3, 12, 60
SMALL = 20
HOLDS = 1e-9
# So many moments over the limit become constraints in one round.
AT_ONCE = 4


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
    return program.told(program.refined(chosen))


class _Program:
    """The mixed-integer program of one suggestion, which grows by what the block computation finds."""

    def __init__(self, of: Survey, wishes: Wishes) -> None:
        self.of, self.wishes, self._like = of, wishes, of.planned
        self.candidates = candidates(of, wishes)
        self.prices = np.array([c.price for c in self.candidates])
        self._disk = np.array([c.disk for c in self.candidates])
        self.rounds = 0
        self.least = 0.0
        self._exact = True
        self._rows: list[NDArray[np.float64]] = []
        self._needed: list[float] = []
        self._moments: dict[int, int] = {}
        self._seconds: list[float] = []
        self._last = self._last_strip()
        self._chains: set[tuple[int, bytes]] = set()
        self._excluding()
        block = deadline(of.buffer, of.session.rate)
        self._allowed = wishes.limit * block
        self.tighten(np.zeros(len(self.candidates), np.bool_))

    def _excluding(self) -> None:
        """At most one decision about the same plugins: one for each strip, and none inside what is frozen."""
        self._exclusive: list[NDArray[np.float64]] = []
        by_strip: dict[int, list[int]] = {}
        for number, candidate in enumerate(self.candidates):
            for strip in candidate.strips():
                by_strip.setdefault(strip, []).append(number)
        for index, numbers in by_strip.items():
            whole = [n for n in numbers if self.candidates[n].decision.use is None]
            uses: dict[str, list[int]] = {}
            for n in numbers:
                for use in self._about(n, index):
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

    def _about(self, number: int, strip: int) -> list[str]:
        """The ids of the plugins of a strip that a candidate is about; what is shared are all to the chain's end."""
        candidate = self.candidates[number]
        own = next(d for d, k in zip(candidate.decisions(), candidate.strips(), strict=True) if k == strip)
        if own.use is None:
            return []
        inserts = self.of.session.strips[strip].inserts
        return [use.id for use in chain_from(inserts, own.use)] if own.kind == "share" else [own.use]

    def _covers(self, candidate: Candidate, use_id: str) -> bool:
        decision, strip = candidate.decision, self.of.session.strips[candidate.strip]
        return decision.kind == "freeze" and strip.place_of(use_id) <= (decision.through or 0)

    def plan(self, chosen: NDArray[np.bool_]) -> Plan:
        made = self.of.plan
        for number in np.flatnonzero(chosen):
            for decision in self.candidates[number].decisions():
                made = made.decide(decision)
        return made

    def _with(self, chosen: NDArray[np.bool_]) -> Prepared:
        """The session with these decisions. Plans that follow each other share the same: most of it is taken over."""
        self._like = with_plan(self.of, self.plan(chosen), self._like)
        return self._like

    def refined(self, chosen: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """What whole numbers find with all the constraints that rounding has brought, where much may be found."""
        price = float(self.prices[chosen].sum())
        if len(self.candidates) <= MANY or price - self.least < WORTH * price or not self.holds(chosen):
            return chosen
        for _ in range(REFINING):
            found = self.solve(whole=True)
            if found is None or float(self.prices[found].sum()) >= float(self.prices[chosen].sum()):
                break
            if not self.tighten(found):
                return self.without_needless(found)
        return chosen

    def solve(self, whole: bool | None = None) -> NDArray[np.bool_] | None:
        """The cheapest decisions that meet all constraints so far (bool for each candidate); None if none do.

        With many candidates not in `whole` numbers, unless that is asked for: then as far as some branches find.
        """
        from scipy.optimize import Bounds, LinearConstraint, milp  # imported here: it would lengthen every start

        self.rounds += 1
        count = len(self.candidates)
        if not self._rows:
            return np.zeros(count, np.bool_)
        if not count:
            return None
        constraints = [LinearConstraint(np.array(self._rows), np.array(self._needed), np.inf)]
        if self.wishes.disk is not None:
            constraints.append(LinearConstraint(self._disk[None, :], -np.inf, self.wishes.disk))
        if self._exclusive:
            constraints.append(LinearConstraint(np.array(self._exclusive), -np.inf, 1.0))
        whole = count <= MANY if whole is None else whole
        branches = BRANCHES if count > MANY else 10**6
        solved = milp(
            self.prices, constraints=constraints, bounds=Bounds(0, 1), integrality=np.full(count, float(whole)),
            options={"time_limit": SOLVER_SECONDS, "mip_rel_gap": 1e-6, "node_limit": branches},
        )  # fmt: skip
        if solved.x is None:
            return None
        if self._exact:
            self.least = max(self.least, float((solved.mip_dual_bound if whole else solved.fun) or 0.0))
        return solved.x > 0.5 if whole else self._rounded(solved.x)

    def _rounded(self, shares: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Whole decisions for the shares of them that the program without whole numbers takes.

        A corner of that program has no more broken shares than constraints: all are taken whole, of those that exclude
        each other the one that saves more. What is then too much is taken back in the end.
        """
        chosen = shares > 1e-6
        gain = np.array([c.saves.max() for c in self.candidates])
        for row in self._exclusive:
            clash = np.flatnonzero((row > 0) & chosen)
            if len(clash) > 1:
                chosen[clash] = False
                chosen[clash[np.argmax(gain[clash])]] = True
        if self.wishes.disk is not None:
            for number in np.argsort(shares, kind="stable"):
                if float(self._disk[chosen].sum()) <= self.wishes.disk:
                    break
                chosen[number] &= self._disk[number] <= 0
        return np.asarray(chosen, np.bool_)

    def tighten(self, chosen: NDArray[np.bool_]) -> bool:
        """Adds what this choice still breaks as constraints; false if it breaks nothing."""
        of = self.of
        after = self._with(chosen)
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
                self._seconds.append(second)
                added.add(kind)
                self._add(kind, of.planned.moments.distinct[kind], second, float(loads.load[moment]), after, chosen)
            if len(added) >= (AT_ONCE if len(self.candidates) <= MANY else 4 * AT_ONCE):
                break
        return True

    def _add(
        self,
        kind: int,
        states: NDArray[np.int16],
        second: float,
        load: float,
        after: Prepared,
        chosen: NDArray[np.bool_],
    ) -> None:
        """One more constraint for a kind of moment: its work, else its chain, else a step beyond both."""
        of, threads = self.of, self.of.threads
        each, beside = at_moments(of.costs[of.buffer], states), beside_at(of.costs[of.buffer], states)
        saves, extra = np.array([c.saved(states) for c in self.candidates]).reshape(-1, 2).T
        whole = float(each.sum() + (beside.sum() if threads > 1 else 0.0)) / threads
        if kind not in self._moments:
            self._moments[kind] = len(self._rows)
            # Work that is left, and what the cores take from each other, spread over all threads; and the same work
            # with the last strip alone after all others.
            self._demand((saves + (extra if threads > 1 else 0)) / threads, whole)
            if self._last is not None and threads > 1:
                # Of a block that is computed in parts only its last one comes after all others.
                share = 1 / of.session.host.parts
                on_last = np.array([c.strip == self._last for c in self.candidates])
                alone = float(each[self._last]) * share
                own = saves * (share + (1 - share) / threads)
                self._demand(np.where(on_last, own, saves / threads), (float(each.sum()) - alone) / threads + alone)
            return
        now = after.moments.states[after.moments.at(second)]
        row = at_moments(costs(after, of.machine, of.buffer), now)
        chain = in_a_row(after.tasks, of.session.host, after.live, row, threads)
        # A strip that this plan has made is in no other one.
        ours = np.where(np.arange(len(chain)) < len(of.session.strips), chain, 0.0)[: len(each)]
        if (kind, chain.tobytes()) not in self._chains and float(row @ chain) > self._allowed:
            self._chains.add((kind, chain.tobytes()))
            on_chain = np.array([c.saved(states, ours)[0] for c in self.candidates])
            self._demand(on_chain, float(each @ ours))
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
        return float(load_map(self._with(chosen), self.of.machine, self.of.buffer).load.max())

    def holds(self, chosen: NDArray[np.bool_]) -> bool:
        return self.worst(chosen) <= self.wishes.limit + HOLDS

    def as_low_as_possible(self) -> NDArray[np.bool_]:
        """For each strip what saves most, if nothing reaches the limit."""
        chosen = np.zeros(len(self.candidates), np.bool_)
        blocked = np.zeros(len(self.candidates), np.bool_)
        rank = sorted(range(len(self.candidates)), key=lambda n: -float(self.candidates[n].saves.sum()))
        for number in rank:
            candidate = self.candidates[number]
            full = self.wishes.disk is not None and float(self._disk[chosen].sum()) + candidate.disk > self.wishes.disk
            if blocked[number] or full or candidate.saves.max() <= 0:
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
            if self.exceeds(kept, allowed):
                kept[number] = True
        return kept

    def exceeds(self, chosen: NDArray[np.bool_], allowed: float) -> bool:
        """Whether a moment's load is higher than allowed. Those that were too high before are looked at first."""
        of = self.of
        after = self._with(chosen)
        each = costs(after, of.machine, of.buffer)
        if self._seconds:
            rows = np.array([after.moments.states[after.moments.at(second)] for second in self._seconds])
            if float(played(after, of.machine, each, rows).makespan.max()) > allowed * of.deadline:
                return True
        loads = load_map(after, of.machine, of.buffer, each)
        if float(loads.load.max()) <= allowed:
            return False
        self._seconds.append(middle(loads, loads.worst))
        return True

    def told(self, chosen: NDArray[np.bool_]) -> Suggestion:
        """The plan with its decisions in the order in which they save most at the worst moment."""
        of = self.of
        states = of.planned.moments.states[of.after.worst]
        taken = [self.candidates[number] for number in np.flatnonzero(chosen)]
        taken.sort(key=lambda c: -c.saved(states)[0])
        made = _steps(of, of.plan, [(c.decisions(), c.price) for c in taken], float(of.after.load.max()))
        load = made[-1].load if made else float(of.after.load.max())
        plan = of.plan
        for step in made:
            for decision in step.decisions():
                plan = plan.decide(decision)
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
