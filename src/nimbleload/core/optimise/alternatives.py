"""Three plans on the trade-off curve, side by side, all told in the same minutes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ..decisions.price import Weights
from ..survey import Survey, survey
from .candidates import Wishes
from .steps import Step, Taken, steps_of
from .suggest import Suggestion, suggest

# Every step as dear as every other: what is left to count is how many there are.
EQUAL = Weights(
    rendering=0.0, returning=0.0, sound=0.0, tails=0.0, locked=0.0, bus=1.0, member=0.0, nearly=0.0, kind=1.0, use=0.0,
    suspend=1.0, off=1.0, disk=0.0, step=1.0,
)  # fmt: skip
HEADROOM = 0.1


class Alternative(NamedTuple):
    """A plan, told in minutes that can be compared, and what each of its steps brings to the session as it is."""

    found: Suggestion
    steps: list[Step]


def first_alike(found: Mapping[str, Alternative], name: str) -> str:
    """Which of these plans is the first that decides the same, and reaches as much, as the one of this name; its own
    name if there is none before it."""
    decided = {each: (set(plan.found.plan.decisions), plan.found.reached) for each, plan in found.items()}
    return next(each for each in found if decided[each] == decided[name])


def alternatives(of: Survey, wishes: Wishes) -> dict[str, Alternative]:
    """The least given up, the fewest steps, and a tenth more headroom: each looked for from the session as it is.

    What the plan in force has decided does not count: the three are alternatives to it. No plan that keeps the limit
    costs less than the least price of the first, so that holds for all three.
    """
    undecided = of.plan.without(*of.plan.decisions)
    bare = survey(of.session, undecided, of.planned.cards, of.machine, of.buffer, of)
    cheapest, fewest = suggest(bare, wishes), suggest(bare, wishes._replace(weights=EQUAL))
    if cheapest.reached == fewest.reached and len(cheapest.steps) <= len(fewest.steps):
        # Of plans of as few steps that which gives up least.
        fewest = cheapest
    found = {
        "least given up": cheapest,
        "fewest steps": fewest,
        "most headroom": suggest(bare, wishes._replace(limit=wishes.limit - HEADROOM)),
    }
    least = found["least given up"].least
    return {name: _told(bare, each, wishes, least) for name, each in found.items()}


def _told(of: Survey, found: Suggestion, wishes: Wishes, least: float) -> Alternative:
    """The same plan, told in the minutes of these wishes."""
    made = steps_of(of, of.plan, [step.decisions for step in found.steps], wishes.terms(of))
    taken = tuple(Taken(step.decisions, step.price) for step in made)
    price = sum(step.price.minutes for step in made)
    return Alternative(found._replace(steps=taken, price=price, least=min(least, price)), made)
