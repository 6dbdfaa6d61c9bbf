"""The plan that gives up least: searched for, checked by the block computation, and with how much less any could cost.

Two programs over the same candidates: one whose rows hold for every plan, and so proves a least price; one whose rows
are tightened by what the block computation finds, and so leads to plans that hold.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..decisions.decision import Decision, Plan
from ..load.case import case
from ..load.costs import Among, touched
from ..load.judged import Judged
from ..load.load_map import worst_load
from ..session.strips import Strip
from ..survey import Survey, instant, survey, with_plan
from .candidates import Candidate, Wishes, candidates, changed, whole_strip
from .evaluate import FEW, Chosen, Evaluator
from .program import MANY, Program, Solved
from .rows import Rows
from .search import MARGIN, all_cheaper, as_low, closed, improved, lowest, made_sure, near, search, without_needless
from .steps import Taken, priced

# Up to so many candidates every cheaper choice is tried, so many of them at most.
SMALL, CHOICES = 18, 4000
PROOF_NODES, PROOF_GAP = 100, 2e-3
# With so much between its price and what is proven the opposite of a plan's largest decision is tried.
WIDE = 0.1


class Suggestion(NamedTuple):
    """A suggested plan. `load` is its worst load, `price` what it gives up in minutes, `least` the least that any plan
    of these kinds must. What each of its `steps` brings is computed where it is shown (`steps_of`).

    `reached` is false if no plan was found that gets under the limit; `impossible` says that none can. `in_the_way`
    then is what the worst moment is like under the plan, and `stays` the strips that were not touched (their ids).
    """

    plan: Plan
    steps: tuple[Taken, ...]
    load: float
    price: float
    least: float
    reached: bool
    impossible: bool
    in_the_way: Judged | None
    stays: tuple[str, ...]

    @property
    def gap(self) -> float:
        """How far its price may be above the least possible one, as a fraction of it."""
        return max(self.price - self.least, 0.0) / self.price if self.price > 0 else 0.0


def suggest(of: Survey, wishes: Wishes | None = None, small: int = SMALL) -> Suggestion:
    """The plan that gives up least so that no moment exceeds the limit at the survey's buffer size.

    Decisions that the survey's plan has taken already stay, and cost nothing more. With up to `small` candidates every
    cheaper choice is tried in the end.
    """
    wishes = wishes or Wishes(of.session.limit, pinned=frozenset(of.plan.pinned))
    found = candidates(of, wishes)
    evaluator = Evaluator(of, found, wishes.limit)
    nothing = np.zeros(len(found), np.bool_)
    if float(of.after.load.max()) <= wishes.limit + 1e-9:
        return _told(of, wishes, found, nothing, 0.0, 0.0, True, False)
    program = Program(of, found, wishes, Rows(of, found))
    most = lowest(program)
    is_low = evaluator.stands(most) or evaluator.holds(most)
    best = search(program, evaluator) if is_low or len(found) <= FEW else None
    if best is None and is_low:
        freed = (without_needless if program.is_crowded else improved)(program, evaluator, most)
        best = made_sure(program, evaluator, freed)
        best = most if best is None and evaluator.holds(most) else best
    proof = program.proof(_valid_rows(of, found, program, best))
    relaxed = proof.relaxed(lowest=None if is_low else most)
    if best is None and relaxed is not None and (is_low or len(found) <= FEW):
        best = closed(proof, evaluator, None)
        proof = program.proof(_valid_rows(of, found, program, best))
        relaxed = proof.relaxed()
    if best is None:
        chosen = as_low(program, evaluator, most)
        price = program.price(chosen)
        return _told(of, wishes, found, chosen, price, price, False, relaxed is None)
    other = _other_way(program, evaluator, best, relaxed)
    if other is not None:
        best, proof = other, program.proof(_valid_rows(of, found, program, other))
        relaxed = proof.relaxed()
    best, least = _proven(proof, evaluator, best, relaxed, small)
    price = program.price(best)
    return _told(of, wishes, found, best, price, min(least, price), True, False)


def _proven(
    proof: Program, evaluator: Evaluator, best: Chosen, relaxed: Solved | None, small: int
) -> tuple[Chosen, float]:
    """The best plan, bettered where the proof allows it, and the least price that any must have."""
    few, least = len(proof.candidates) <= FEW, relaxed.bound if relaxed is not None else 0.0
    is_near = least >= proof.price(best) * (1 - near(proof)) - MARGIN
    if relaxed is not None and not is_near and not proof.is_crowded:
        proof.under = proof.price(best)
        solved = proof.whole(near=relaxed) if few else proof.whole(PROOF_NODES, PROOF_GAP, relaxed)
        least = max(least, solved.bound) if solved is not None else least
    if few and least < proof.price(best) - MARGIN:
        found = closed(proof, evaluator, best)
        best = found if found is not None else best
    if least < proof.price(best) - MARGIN and len(proof.candidates) <= small:
        best, complete = all_cheaper(proof, evaluator, best, CHOICES)
        least = proof.price(best) if complete else least
    return best, least


def _other_way(program: Program, evaluator: Evaluator, best: Chosen, relaxed: Solved | None) -> Chosen | None:
    """A cheaper choice with the opposite of the largest decision: taken if it is not, or not taken. None if there is
    none, or a choice is proven nearly enough.

    Where a lot of small decisions and a large one do as well, small changes never lead from one to the other.
    """
    count, price = len(program.candidates), program.price(best)
    if not FEW < count <= MANY or relaxed is None or relaxed.bound >= price * (1 - WIDE):
        return None
    large = int(np.argmax(program.rows.gain))
    another = program.proof(program.rows)
    another.under = price
    sign = -1.0 if best[large] else 1.0
    another.cover(sign * (np.arange(count) == large), max(sign, 0.0))
    found = search(another, evaluator)
    return found if found is not None and program.price(found) < price - MARGIN else None


def _valid_rows(of: Survey, found: list[Candidate], program: Program, best: Chosen | None) -> Rows:
    """Rows that hold of every plan that is no dearer than the one in hand."""
    money = program.price(best) if best is not None else float(program.objective.sum())
    return Rows(of, found, _least_among(of, program, best), money, program.rows)


def _least_among(of: Survey, program: Program, best: Chosen | None) -> Among | None:
    """The least that plugins do to each other under any plan no dearer than the one in hand; None: as now."""
    figures, uses = of.planned.figures, of.planned.uses
    money = program.price(best) if best is not None else np.inf
    minds = any(card is not None and card.company for card in figures.found)
    # Between the measured sizes the clock goes by a line: no candidate frees more of it than at one of them.
    sizes = sorted({each.buffer for card in figures.found if card is not None for each in card.slowing})
    clocks = [figures.slowing(size).seconds for size in sizes]
    wholes = [float(seconds[uses.card[uses.live]].sum()) for seconds in clocks]
    lower = [(seconds, whole) for seconds, whole in zip(clocks, wholes, strict=True) if whole > 0]
    now = touched(of.planned, of.machine)
    if not (minds and now > 0) and not lower:
        return None
    if minds:
        freed = [_freed(of, candidate, figures.footprint) / of.threads for candidate in program.candidates]
        now = _least_left(program, freed, now, money)
    shares = [
        max((_freed(of, candidate, seconds) / whole for seconds, whole in lower), default=0.0)
        for candidate in program.candidates
    ]
    return Among(now, _least_left(program, shares, 1.0, money))


def _least_left(program: Program, freed: Sequence[float], now: float, money: float) -> float:
    """What is left at least of something of which candidates free so much each, for so many minutes.

    What candidates take out is relaxed: shares of them, by price, and whatever they exclude of each other.
    """
    prices = [candidate.price for candidate in program.candidates]
    least = now
    for number in sorted(range(len(freed)), key=lambda n: -freed[n] / max(prices[n], 1e-9)):
        if freed[number] > 0 and money > 0:
            share = min(money / prices[number], 1.0) if prices[number] > 0 else 1.0
            least -= share * freed[number]
            money -= share * prices[number]
    return max(least, 0.0)


def _freed(of: Survey, candidate: Candidate, amounts: NDArray[np.float64]) -> float:
    """What a candidate frees of something of which each key takes an amount (K): none, rather than less."""
    index = of.planned.figures.index

    def used(strip: Strip) -> float:
        return sum(float(amounts[index[use.card_key()]]) for use in strip.live_uses())

    freed = 0.0
    for decision in candidate.decisions:
        before = whole_strip(of, decision.strip)
        freed += used(before) - used(changed(before, decision, of.session))
    return max(freed, 0.0)


def _told(
    of: Survey, wishes: Wishes, found: list[Candidate], chosen: Chosen, price: float, least: float, reached: bool,
    impossible: bool,
) -> Suggestion:  # fmt: skip
    """The plan with its steps: what brings most for least first."""
    groups = _steps(of, found, chosen)
    made = priced(groups, wishes.terms(of))
    plan = of.plan.with_all(d for group in groups for d in group)
    load = worst_load(case(with_plan(of, plan), of.machine, of.buffer)) if made else float(of.after.load.max())
    in_the_way = None
    if not reached:
        after = survey(of.session, plan, of.planned.cards, of.machine, of.buffer, of)
        in_the_way = instant(after).judged
    stays = tuple(s.id for s in of.session.strips if s.id in wishes.pinned or s.armed)
    return Suggestion(plan, made, load, price, least, reached, impossible, in_the_way, stays)


def _steps(of: Survey, found: list[Candidate], chosen: Chosen) -> list[tuple[Decision, ...]]:
    """The chosen candidates as steps, by what they take off the worst moment for each minute."""
    together: dict[tuple[str | None, ...], list[Candidate]] = {}
    for number in np.flatnonzero(chosen):
        together.setdefault(found[number].decision.step, []).append(found[number])
    states = of.case.moments.states[of.after.worst]

    def worth(group: list[Candidate]) -> float:
        saved = sum(float(e.saves[states[e.strip]]) for c in group for e in c.effects)
        saved -= sum(float(c.bus[0].max()) for c in group if c.bus is not None)
        once = {name: minutes for c in group for name, minutes in c.once}
        return saved / max(sum(c.price for c in group) + sum(once.values()), 1e-3)

    ordered = sorted(together.values(), key=worth, reverse=True)
    return [tuple(d for candidate in group for d in candidate.decisions) for group in ordered]
