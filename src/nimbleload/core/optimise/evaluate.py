"""What a choice of candidates comes to, by the block computation itself."""

from __future__ import annotations

from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..decisions.apply import KINDS, apply
from ..decisions.decision import Decision, Plan
from ..load.case import Case, case
from ..load.load_map import fits, worst_load
from ..load.prepared import Prepared, prepare
from ..session.cut_at_sends import parts_of
from ..session.strips import Strip
from ..survey import Survey, with_plan
from .activity import lengthens
from .candidates import Candidate, part_cost

Chosen = NDArray[np.bool_]
HOLDS = 1e-9
# With up to so many candidates nothing is given up for speed.
FEW = 60


class Shared(NamedTuple):
    """The session with some of the candidates taken that share, or let strips ring on for longer: its case, and what
    its rows of costs are.

    `rows` and `beside` (D, S, seconds) are those of its different moments.
    """

    case: Case
    numbers: dict[str, int]
    strips: dict[str, Strip]
    rows: NDArray[np.float64]
    beside: NDArray[np.float64]


class Costs(NamedTuple):
    """What strips cost under a choice in some kinds of moments (K), and in which states they are there.

    `rows` and `beside` (K, S, seconds); `aside` (K, seconds).
    """

    shared: Shared
    kinds: NDArray[np.int64]
    states: NDArray[np.int16]
    chosen: Chosen
    rows: NDArray[np.float64]
    beside: NDArray[np.float64]
    aside: NDArray[np.float64]


class Evaluator:
    """Loads under choices of candidates, each a bool for each of n candidates.

    `worst` is the computation that everything shown goes through. `quick` takes what strips cost from a table and what
    they do to each other as it is now: the same where nothing minds what others do to caches and clocks, or has another
    tail, else a little too high.
    """

    def __init__(self, of: Survey, found: list[Candidate], limit: float) -> None:
        self.of, self.candidates, self.limit = of, found, limit
        self._sharing = np.array([each.bus is not None or lengthens(of, each) for each in found], np.bool_)
        self._like: Prepared = of.planned
        self._cases: dict[bytes, Shared] = {}
        self._parts: dict[tuple[str, frozenset[int], bytes], list[tuple[int, NDArray[np.float64]]]] = {}
        self._by_strip: dict[str, list[int]] = {}
        for number, candidate in enumerate(found):
            for decision in candidate.decisions:
                self._by_strip.setdefault(decision.strip, []).append(number)
        self._hot: list[int] = []
        self._kept: dict[bool, Costs] = {}

    def plan(self, chosen: Chosen) -> Plan:
        """The survey's plan with these candidates taken."""
        return self.of.plan.with_all(d for k in np.flatnonzero(chosen) for d in self.candidates[k].decisions)

    def worst(self, chosen: Chosen) -> float:
        """The highest load through the piece, as it is shown."""
        return worst_load(self.case_with(chosen))

    def case_with(self, chosen: Chosen) -> Case:
        """The session with these candidates taken, at the survey's buffer size."""
        self._like = with_plan(self.of, self.plan(chosen), self._like)
        return case(self._like, self.of.machine, self.of.buffer)

    def holds(self, chosen: Chosen, allowed: float | None = None) -> bool:
        """Whether no moment is over the limit (or over what is `allowed`)."""
        return fits(self.case_with(chosen), (self.limit if allowed is None else allowed) + HOLDS)

    def shared(self, chosen: Chosen) -> Shared:
        """The session with only those of a choice that share, or let strips ring on for longer."""
        key = (chosen & self._sharing).tobytes()
        if key not in self._cases:
            session = apply(self.of.session, self.plan(chosen & self._sharing)).session
            prepared = prepare(session, self.of.planned.cards, self.of.planned, self.of.now)
            at = case(prepared, self.of.machine, self.of.buffer)
            if not (chosen & self._sharing).any():
                at = self.of.case
            numbers = {strip.id: k for k, strip in enumerate(at.session.strips)}
            strips = {strip.id: strip for strip in session.strips}
            distinct = at.moments.distinct
            self._cases[key] = Shared(at, numbers, strips, at.rows(distinct), at.beside(distinct))
        return self._cases[key]

    def quick(self, chosen: Chosen, kinds: NDArray[np.int64] | None = None) -> NDArray[np.float64]:
        """The load of each different moment (D) of the session in which these share, or of some of these (`kinds`)."""
        shared = self.shared(chosen)
        kept = self._costs_of(chosen, shared, kinds)
        # What plugins' own threads compute stays as it is now: never less than with anything decided.
        return shared.case.played_rows(kept.rows, kept.beside, kept.aside).makespan / self.of.deadline

    def _costs_of(self, chosen: Chosen, shared: Shared, kinds: NDArray[np.int64] | None) -> Costs:
        """What strips cost under a choice, in all kinds of moments or some: what was asked for before is changed, where
        another choice is another."""
        at = np.arange(len(shared.rows)) if kinds is None else kinds
        kept = self._kept.get(kinds is None)
        if kept is None or kept.shared is not shared or not np.array_equal(kept.kinds, at):
            states = shared.case.moments.distinct[at]
            aside = shared.case.aside(states)
            none = np.zeros_like(chosen)
            kept = Costs(shared, at, states, none, shared.rows[at].copy(), shared.beside[at].copy(), aside)
        others = frozenset(np.flatnonzero(chosen & ~self._sharing).tolist())
        new = np.flatnonzero((chosen ^ kept.chosen) & ~self._sharing)
        for strip_id in {d.strip for k in new for d in self.candidates[k].decisions}:
            for number, cost in self._part_costs(strip_id, others, chosen, shared):
                states = kept.states[:, number]
                kept.rows[:, number], kept.beside[:, number] = cost[0][states], cost[1][states]
        self._kept[kinds is None] = kept._replace(chosen=chosen.copy())
        return kept

    def stands(self, chosen: Chosen) -> bool:
        """Whether no moment is over the limit: by `quick`; of few candidates by `worst`, too, if that may be lower."""
        return self._quickly(chosen) or (self._is_rough and len(self.candidates) <= FEW and self.holds(chosen))

    @cached_property
    def _is_rough(self) -> bool:
        """Whether `quick` may be higher than `worst`: caches are given back, strips fall silent earlier, or plugins'
        own threads compute less."""
        figures = self.of.planned.figures
        tails = {card.lasting for card in figures.found if card is not None}
        aside = bool(self.of.case.costs.aside.any())
        known = [card for card in figures.found if card is not None]
        minds = any(card.company or any(each.seconds for each in card.slowing) for card in known)
        return aside or len(tails) > 1 or minds

    def _quickly(self, chosen: Chosen) -> bool:
        """Whether no different moment is over the limit, by `quick`; those that were before are looked at first."""
        at = self.shared(chosen)
        if self._hot:
            kinds = np.unique([at.case.moments.of[k] for k in self._hot])
            if float(self.quick(chosen, kinds).max()) > self.limit + HOLDS:
                return False
        loads = self.quick(chosen)
        if float(loads.max()) <= self.limit + HOLDS:
            return True
        moment = int(np.argmax(at.case.moments.of == int(np.argmax(loads))))
        if len(at.case.moments.of) == len(self.of.case.moments.of) and moment not in self._hot:
            self._hot.append(moment)
        return False

    def _part_costs(
        self, strip_id: str, others: frozenset[int], chosen: Chosen, shared: Shared
    ) -> list[tuple[int, NDArray[np.float64]]]:
        """What each part of a strip costs with everything that is chosen about it (number, (2, N))."""
        own = frozenset(others.intersection(self._by_strip[strip_id]))
        key = (strip_id, own, (chosen & self._sharing).tobytes())
        if key not in self._parts:
            decisions = [d for k in sorted(own) for d in self.candidates[k].decisions if d.strip == strip_id]
            strip = self._changed(shared.strips[strip_id], decisions)
            of, numbers = shared.case, [shared.numbers[part.id] for part in parts_of(strip)]
            self._parts[key] = [
                (n, part_cost(of, n, part) if own else np.array([of.costs.by_state[:, n], of.costs.beside[:, n]]))
                for n, part in zip(numbers, parts_of(strip), strict=True)
            ]
        return self._parts[key]

    def _changed(self, strip: Strip, decisions: list[Decision]) -> Strip:
        for name, kind in KINDS.items():
            for decision in decisions:
                if decision.kind == name:
                    strip = kind.change(strip, decision, self.of.session)
        return strip
