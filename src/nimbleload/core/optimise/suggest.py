"""The plan that gives up least: searched for, checked by the block computation, and with how much less any could cost.

Two programs over the same candidates: one whose rows hold for every plan, and so proves a least price; one whose rows
are tightened by what the block computation finds, and so leads to plans that hold.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ..decisions.apply import apply, price
from ..decisions.decision import Decision, Plan
from ..load.case import case
from ..load.judged import Judged
from ..load.load_map import fits, worst_load
from ..load.memory import memory
from ..survey import Survey, instant, survey, with_plan
from .candidates import Candidate, Wishes, candidates
from .evaluate import FEW, Chosen, Evaluator
from .program import MANY, Program, Solved
from .proof import among, by_price, least_either_way, least_price, tightened
from .rows import Rows
from .search import (
    MARGIN,
    ONE_BY_ONE,
    TRIFLE,
    all_cheaper,
    as_low,
    bettered,
    closed,
    enough,
    improved,
    lowest,
    made_sure,
    near,
    search,
    with_enough,
    without_needless,
)
from .steps import Taken, priced
from .unload import least_kept, unload

# Where every cheaper choice is tried, so many of them at most.
CHOICES = 4000
# Of so many of many it is tried at the end, by the whole computation, whether the plan holds without them.
NEEDLESS = 100
# So much between a plan's price and what is proven is wide (a fraction of it).
WIDE = 0.04


class Suggestion(NamedTuple):
    """A suggested plan. `load` is its worst load, `price` what it gives up in minutes, `least` the least that any plan
    of these kinds must. What each of its `steps` brings is computed where it is shown (`steps_of`).

    `reached` is false if no plan was found that gets under the limit; `impossible` says that none can. `in_the_way`
    then is what the worst moment is like under the plan, and `stays` the strips that were not touched (their ids).
    Plugins keep `kept` bytes of memory under it; where they may not keep as much as any plan leaves, that is the least,
    and `short` by how much it is too much.
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
    kept: float = 0.0
    short: float = 0.0

    @property
    def gap(self) -> float:
        """How far its price may be above the least possible one, as a fraction of it."""
        return max(self.price - self.least, 0.0) / self.price if self.price > 0 else 0.0


def suggest(of: Survey, wishes: Wishes | None = None, small: int = ONE_BY_ONE) -> Suggestion:
    """The plan that gives up least so that no moment exceeds the limit at the survey's buffer size, and plugins keep no
    more memory than they may.

    Decisions that the survey's plan has taken already stay, and cost nothing more; but a freeze may come to unload what
    it holds, and take the place of a suspension. With up to `small` candidates every cheaper choice is tried in the
    end.
    """
    wishes = wishes or Wishes(of.session.limit, pinned=frozenset(of.plan.pinned))
    made = _for_load(of, wishes, small)
    made = made._replace(kept=_kept(of, made.plan))
    has_room = wishes.memory is None or made.kept <= wishes.memory
    return made if has_room else _with_room(of, wishes, made, small)


def _kept(of: Survey, plan: Plan) -> float:
    return float(memory(apply(of.session, plan).session, of.planned.cards).bytes)


def _with_room(of: Survey, wishes: Wishes, made: Suggestion, small: int) -> Suggestion:
    """The same with what has to be unloaded: once what is cheapest to unload first, and then what the load still needs;
    once the other way about. What is left over of the dearer steps goes."""
    assert wishes.memory is not None
    found: list[Suggestion] = []
    least = made.least
    starts = [of] if made.plan == of.plan else [of, _like(of, made.plan)]
    for first in starts:
        freed = unload(first, wishes)
        if freed is None:
            continue
        least = max(least, freed.least if first is of else 0.0)
        then = _for_load(_like(of, first.plan.with_all(freed.decisions)), wishes, small)
        found.append(_again(of, wishes, then))
    reaching = [each for each in found if each.reached]
    if not reaching:
        left = min(least_kept(first, wishes) for first in starts)
        best = min(found, key=lambda each: (each.short, each.load), default=made._replace(kept=left))
        return best._replace(reached=False, short=max(best.kept - wishes.memory, 0.0))
    best = min(reaching, key=lambda each: each.price)
    return best._replace(least=min(least, best.price))


def _like(of: Survey, plan: Plan) -> Survey:
    """The survey with another plan."""
    return survey(of.session, plan, of.planned.cards, of.machine, of.buffer, of)


def _again(of: Survey, wishes: Wishes, found: Suggestion) -> Suggestion:
    """A plan that was found in two turns, told as one: without the steps that are not needed, dearest first."""
    terms, room = wishes.terms(of), wishes.memory or 0.0
    before = set(of.plan.decisions)

    def steps(plan: Plan) -> list[tuple[Decision, ...]]:
        new = (tuple(d for d in step if d not in before) for step in plan.steps())
        return [step for step in new if step]

    plan = found.plan
    for step in sorted(priced(steps(plan), terms), key=lambda each: -each.price.minutes) if found.reached else ():
        about = {decision.subject for decision in step.decisions}
        less = plan.without(*step.decisions).with_all(d for d in of.plan.decisions if d.subject in about)
        if _kept(of, less) <= room and fits(case(with_plan(of, less), of.machine, of.buffer), wishes.limit):
            plan = less
    taken = priced(steps(plan), terms)
    load = worst_load(case(with_plan(of, plan), of.machine, of.buffer))
    # What a suspension or freeze in force had cost is not paid again.
    gone = [d for d in before if d not in plan.decisions]
    price_of = sum(step.price.minutes for step in taken) - price(terms, *gone).minutes
    kept = _kept(of, plan)
    short = max(kept - room, 0.0)
    reached = found.reached and not short
    return found._replace(
        plan=plan, steps=taken, load=load, price=max(price_of, 0.0), kept=kept, short=short, reached=reached
    )


def _for_load(of: Survey, wishes: Wishes, small: int) -> Suggestion:
    """The plan that gives up least so that no moment exceeds the limit."""
    found = candidates(of, wishes)
    evaluator = Evaluator(of, found, wishes.limit)
    nothing = np.zeros(len(found), np.bool_)
    if of.after.highest <= wishes.limit + 1e-9:
        return _told(of, wishes, found, nothing, 0.0, 0.0, True, False)
    program = Program(of, found, wishes, Rows(of, found))
    most = lowest(program)
    is_low = evaluator.stands(most) or evaluator.holds(most)
    best = search(program, evaluator) if is_low or len(found) <= FEW else None
    if best is None and is_low:
        freed = (without_needless if program.is_crowded else improved)(program, evaluator, most)
        best = made_sure(program, evaluator, freed)
        best = most if best is None and evaluator.holds(most) else best
    money = program.price(best) if best is not None else float(program.objective.sum())
    proof = program.proof(by_price(of, found, money, program.rows, program.allowed))
    relaxed = proof.relaxed(lowest=None if is_low else most)
    if best is None and relaxed is not None and (is_low or len(found) <= FEW):
        best = closed(proof, evaluator, None)
        money = program.price(best) if best is not None else money
        proof = program.proof(by_price(of, found, money, program.rows, program.allowed))
        relaxed = proof.relaxed()
    if best is None:
        chosen = as_low(program, evaluator, most)
        price = program.price(chosen)
        return _told(of, wishes, found, chosen, price, price, False, relaxed is None)
    proof.under = money
    if relaxed is not None and proof.at_least(relaxed) < money - enough(proof, best) - MARGIN:
        tight = tightened(of, proof, money)
        if tight is not proof:
            proof, relaxed = tight, tight.relaxed()
            proof.under = money
    if len(found) <= FEW:
        best, least = _proven(proof, evaluator, best, relaxed, small)
    else:
        best, least = _proven_of_many(program, proof, evaluator, best, relaxed)
    if len(found) > ONE_BY_ONE:
        best, least = _narrowed(of, wishes, program, proof, evaluator, best, least)
    if len(found) > FEW and best.sum() <= NEEDLESS:
        # The more goes, the less do plugins cost each other, which the quick look does not see. What would be cheaper
        # than is proven need not be looked at.
        best = without_needless(
            program, evaluator, best, lambda left: program.price(left) >= least - MARGIN and evaluator.holds(left)
        )
    price = program.price(best)
    return _told(of, wishes, found, best, price, min(least, price), True, False)


def _proven(
    proof: Program, evaluator: Evaluator, best: Chosen, relaxed: Solved | None, small: int
) -> tuple[Chosen, float]:
    """The best plan, bettered where the proof allows it, and the least price that any must have."""
    least = proof.at_least(relaxed) if relaxed is not None else 0.0
    if least < proof.price(best) - MARGIN:
        least = max(least, least_price(proof, relaxed, proof.price(best)).bound)
        found = closed(proof, evaluator, best) if least < proof.price(best) - MARGIN else None
        best = found if found is not None else best
    if least < proof.price(best) - MARGIN and len(proof.candidates) <= small:
        best, complete = all_cheaper(proof, evaluator, best, CHOICES)
        least = proof.price(best) if complete else least
    return best, least


def _proven_of_many(
    program: Program, proof: Program, evaluator: Evaluator, best: Chosen, relaxed: Solved | None
) -> tuple[Chosen, float]:
    """The same of many candidates, without making sure of what no bound tells."""
    least = proof.at_least(relaxed) if relaxed is not None else 0.0
    if least < program.price(best) - enough(proof, best) - MARGIN:
        proven = least_price(proof, relaxed, program.price(best))
        least = max(least, proven.bound)
        if not proven.halves:
            best = _by_rows(program, evaluator, np.asarray(proven.taken > 0.5), best)
    return best, least


def _narrowed(
    of: Survey, wishes: Wishes, program: Program, proof: Program, evaluator: Evaluator, best: Chosen, least: float
) -> tuple[Chosen, float]:
    """The same where the price and what is proven are far apart: both are told apart by the largest decision; and it is
    searched once more, with the opposite of that where a plan might be cheaper, and near the one in hand."""

    def is_wide() -> bool:
        price = program.price(best)
        trifle = enough(program, best) if near(program) else TRIFLE
        return len(best) <= MANY and price - least > max(WIDE * price, trifle) + MARGIN

    if is_wide():
        large = int(np.argmax(program.rows.gain))
        in_whole_numbers = not proof.is_hard
        halves = least_either_way(of, wishes, proof, large, program.price(best), in_whole_numbers)
        if halves[not best[large]] < program.price(best) * (1 - WIDE):
            before, best = best, _cheaper(_other_way(program, large, not best[large]), evaluator, best)
            if best is not before:
                # What holds only of plans up to the lower price says more.
                price = program.price(best)
                proof = program.proof(by_price(of, program.candidates, price, program.rows, program.allowed))
                halves = least_either_way(of, wishes, proof, large, price, in_whole_numbers)
        least = max(least, min(halves))
    if is_wide():
        there = Rows(of, program.candidates, among(of, program.rows, best), None, program.rows)
        best = _cheaper(program.proof(there), evaluator, best)
    return best, least


def _by_rows(program: Program, evaluator: Evaluator, chosen: Chosen, best: Chosen) -> Chosen:
    """The cheapest choice by rows alone, with what it may lack, or the plan in hand where that is no dearer."""
    program.under = program.price(best)
    if not program.is_allowed(chosen) or program.price(chosen) >= program.under - MARGIN:
        return best
    found = bettered(program, evaluator, chosen)
    found = with_enough(program, evaluator, chosen) if found is None else found
    return found if found is not None and program.price(found) < program.under - MARGIN else best


def _other_way(program: Program, number: int, taken: bool) -> Program:
    """The program with one of its candidates taken, or without it.

    Where a lot of small decisions and a large one do as well, small changes never lead from one to the other.
    """
    another = program.proof(program.rows)
    another.cover((1.0 if taken else -1.0) * (np.arange(len(program.candidates)) == number), float(taken))
    return another


def _cheaper(program: Program, evaluator: Evaluator, best: Chosen) -> Chosen:
    """What a search finds that is cheaper, or the plan in hand."""
    program.under = program.price(best)
    found = search(program, evaluator)
    return found if found is not None and program.price(found) < program.price(best) - MARGIN else best


def _told(
    of: Survey, wishes: Wishes, found: list[Candidate], chosen: Chosen, price: float, least: float, reached: bool,
    impossible: bool,
) -> Suggestion:  # fmt: skip
    """The plan with its steps: what brings most for least first."""
    groups = _steps(of, found, chosen)
    made = priced(groups, wishes.terms(of))
    plan = of.plan.with_all(d for group in groups for d in group)
    load = worst_load(case(with_plan(of, plan), of.machine, of.buffer)) if made else of.after.highest
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
