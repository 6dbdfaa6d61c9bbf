"""The steps of a plan: what each brings when one after the other is taken, and what it costs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..decisions.apply import price, without_effect
from ..decisions.decision import Decision, Plan
from ..decisions.price import Price, Terms, Weights
from ..load.case import Case, case
from ..load.load_map import worst_load
from ..load.memory import memory
from ..piece.moments import SILENT
from ..survey import Survey, middle, with_plan


class Taken(NamedTuple):
    """Decisions that go together, and what they cost after those before them: what is paid once in a plan is paid by
    the first that needs it."""

    decisions: tuple[Decision, ...]
    price: Price

    @property
    def decision(self) -> Decision:
        return self.decisions[0]


class Step(NamedTuple):
    """Decisions that go together, what they cost, and the worst load before and after them (fractions).

    `work` is what they take off the work of the worst block, in shares of one core, `memory` what they give back
    (bytes).
    """

    decisions: tuple[Decision, ...]
    price: Price
    before: float
    load: float
    work: float
    memory: float = 0.0

    @property
    def decision(self) -> Decision:
        return self.decisions[0]

    @property
    def others(self) -> tuple[Decision, ...]:
        return self.decisions[1:]


class WorstBlock(NamedTuple):
    """The worst block without the plan: its second, who sounds in it (S), and what each strip takes (S, seconds)."""

    second: float
    sounding: NDArray[np.bool_]
    strips: NDArray[np.float64]


class Stepped(NamedTuple):
    """The steps of a plan, and the worst block without it, which says why each of them is taken."""

    steps: list[Step]
    worst: WorstBlock


def stepped(of: Survey, go_on: Callable[[], object] = lambda: None) -> Stepped:
    """The steps of the plan in force, and the block that they are for. `go_on` is called before each step, and may end
    it by an exception."""
    return Stepped(steps(of, go_on=go_on), worst_block(of))


def worst_block(of: Survey) -> WorstBlock:
    """The middle of the worst moment of the session as it is."""
    second = middle(of.before, of.before.worst)
    at = of.now_case
    states = at.moments.states[at.moments.at(second)]
    factor = float(at.played(states[None, :]).factor[0])
    return WorstBlock(second, states != SILENT, at.rows(states) * factor)


def steps(of: Survey, weights: Weights | None = None, go_on: Callable[[], object] = lambda: None) -> list[Step]:
    """The decisions of the plan in force, one after the other, with the worst load after each."""
    terms = Terms(of.session, of.planned.cards, of.machine, of.plan, weights or Weights())
    return steps_of(of, Plan((), of.plan.pinned), of.plan.steps(), terms, go_on)


def priced(groups: Sequence[tuple[Decision, ...]], terms: Terms) -> tuple[Taken, ...]:
    """What each group of decisions costs when one after the other is taken. What has no effect beside the others is
    not there to be put back, and costs nothing."""
    found: list[Taken] = []
    paid: set[str] = set()
    idle = set(without_effect(terms.session, Plan(tuple(each for decisions in groups for each in decisions))))
    for decisions in groups:
        cost = price(terms, *(each for each in decisions if each not in idle))
        found.append(Taken(decisions, cost._replace(once=tuple(each for each in cost.once if each[0] not in paid))))
        paid.update(name for name, _ in cost.once)
    return tuple(found)


def steps_of(
    of: Survey, plan: Plan, groups: Sequence[tuple[Decision, ...]], terms: Terms,
    go_on: Callable[[], object] = lambda: None,
) -> list[Step]:  # fmt: skip
    """What each group of decisions brings when one after the other is taken into a plan. `go_on`: see `stepped`."""
    found: list[Step] = []
    after = with_plan(of, plan)
    at = case(after, of.machine, of.buffer)
    before = worst_load(at)
    second = middle(of.before, of.before.worst)
    work, kept = _work(at, second), memory(after.session, of.planned.cards).bytes
    for decisions, cost in priced(groups, terms):
        go_on()
        plan = plan.with_all(decisions)
        after = with_plan(of, plan, after)
        at = case(after, of.machine, of.buffer)
        load, left = worst_load(at), _work(at, second)
        keeps = memory(after.session, of.planned.cards).bytes
        found.append(Step(decisions, cost, before, load, (work - left) / of.deadline, float(kept - keeps)))
        before, work, kept = load, left, keeps
    return found


def _work(at: Case, second: float) -> float:
    """All work of the block at a second, in seconds."""
    return float(at.rows(at.moments.states[at.moments.at(second)]).sum())
