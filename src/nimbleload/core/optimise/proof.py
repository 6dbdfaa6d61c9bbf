"""What no plan undercuts: programs whose rows hold of every plan that is no dearer than one in hand.

What plugins do to each other (they push each other out of the caches, and some lower the clock for those after them)
depends on all that is live. A proof takes it as the least that any such plan leaves of it: first by price alone, and
then of those that meet the rows which follow from that.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..load.costs import Among, calls_of, shared_by, touched
from ..survey import Survey
from .activity import Known
from .candidates import Candidate, Held, Wishes, held
from .evaluate import FEW, Chosen
from .program import ROOM, Program, Solved
from .rows import Rows

Figures = NDArray[np.float64]
# The solver's nodes and relative gap for a least price in whole numbers, where there are many candidates.
NODES, GAP = 100, 2e-3
# So many of its answers are asked for at most.
ANSWERS = 6


class Mutual(NamedTuple):
    """One thing that plugins do to each other: how much of it there is `now`, and how much of it each candidate takes
    away (`freed`: n)."""

    now: float
    freed: Figures


def mutual(of: Survey, holds: Held) -> list[Mutual]:
    """The bytes that plugins touch in the caches, and what they do to the clock (as a share of what it is now); none if
    they do neither."""
    figures, uses = of.planned.figures, of.planned.uses
    sizes = {max(round(of.buffer / calls), 1) for calls in calls_of(of.planned, of.buffer)}
    clocks = [figures.slowing(size).seconds for size in sizes]
    wholes = [float(seconds[uses.card[uses.live]].sum()) for seconds in clocks]
    minds = any(card is not None and card.company for card in figures.found)
    now = touched(of.planned, of.machine)
    if not (minds and now > 0) and not any(wholes):
        return []
    freed = holds.freed(figures.footprint)
    shares = [holds.freed(seconds) / whole for seconds, whole in zip(clocks, wholes, strict=True) if whole > 0]
    caches = Mutual(now, freed / shared_by(of.planned.session.host, of.machine))
    return [caches, Mutual(1.0, np.max(shares or [np.zeros(len(freed))], axis=0))]


def among(of: Survey, rows: Rows, chosen: Chosen) -> Among | None:
    """What plugins do to each other with a choice of candidates, about; None if nothing."""
    return _among([max(now - float(freed @ chosen), 0.0) for now, freed in mutual(of, rows.held)])


def _among(left: Sequence[float]) -> Among | None:
    return Among(*left) if left else None


def by_price(
    of: Survey, found: list[Candidate], money: float, like: Rows | None = None, allowed: float = np.inf,
    known: Known | None = None,
) -> Rows:  # fmt: skip
    """Rows that hold of every plan that costs so many minutes at most, by its price alone; and under which no block
    takes longer than is `allowed` (seconds). Sessions that are `known` need not be made."""
    holds = like.held if like is not None else held(of.case, found)
    left = [_least_left(found, each, money) for each in mutual(of, holds)]
    return Rows(of, found, _among(left), money, like, allowed, known)


def tightened(of: Survey, proof: Program, money: float) -> Program:
    """The same with what plugins do to each other under plans that meet its rows, and cost so many minutes at most."""
    left, parts = proof.rows.among, mutual(of, proof.rows.held)
    if not parts:
        return proof
    tighter = Among(*(max(at, now - proof.most(freed, money)) for at, (now, freed) in zip(left, parts, strict=True)))
    if tighter == left:
        return proof
    made = Rows(of, proof.candidates, tighter, money, proof.rows, proof.allowed)
    return proof.proof(made, with_covers=True)


def least_price(proof: Program, relaxed: Solved | None, price: float) -> Solved:
    """What no plan undercuts by a proof, in whole numbers; of plans up to a price (minutes). Where the solver has no
    answer nothing is proven. What is taken is the last answer, which may be one without whole numbers."""
    proof.under = price
    if relaxed is None:
        return Solved(np.zeros(len(proof.candidates)), 0.0)
    last = relaxed._replace(bound=proof.at_least(relaxed))
    if proof.is_crowded or proof.is_slow(relaxed):
        return last
    if len(proof.candidates) <= FEW:
        solved = proof.whole(near=relaxed)
        return solved._replace(bound=max(last.bound, solved.bound)) if solved is not None else last
    for _ in range(ANSWERS):
        solved = proof.whole(NODES, GAP, relaxed)
        if solved is None:
            break
        last = solved._replace(bound=max(last.bound, solved.bound))
        # What it breaks comes in: then the next answer is dearer.
        is_through = proof.is_hard or last.bound >= price - ROOM or not proof.separate(solved.taken)
        relaxed = None if is_through else proof.relaxed()
        if relaxed is None:
            break
    return last


def least_either_way(
    of: Survey, wishes: Wishes, proof: Program, number: int, price: float, whole: bool
) -> tuple[float, float]:
    """The same, told apart: without one of the candidates, and with it; the price itself where nothing is cheaper. In
    whole numbers, or (`whole` false) without.

    One that many others hang together with (it changes when their strips sound, or takes a lot of the caches) makes
    rows say little as long as it may be taken.
    """
    others = [each for n, each in enumerate(proof.candidates) if n != number]
    known = proof.rows.known_without(number)
    without = Program(of, others, wishes, by_price(of, others, price, allowed=proof.allowed, known=known))
    taken = proof.proof(proof.rows)
    taken.cover((np.arange(len(proof.candidates)) == number).astype(float), 1.0)
    return _least_of(of, without, price, whole), _least_of(of, taken, price, whole)


def _least_of(of: Survey, half: Program, price: float, whole: bool) -> float:
    """The least price of a half, the price itself if nothing cheaper meets its rows."""
    relaxed = half.relaxed()
    if relaxed is None or relaxed.bound >= price:
        return price
    tight = tightened(of, half, price)
    closer = tight.relaxed() if tight is not half else relaxed
    if closer is None:
        return price
    tight.under = price
    return min(least_price(tight, closer, price).bound if whole else tight.at_least(closer), price)


def _least_left(found: Sequence[Candidate], of: Mutual, money: float) -> float:
    """What is left of it at least for so many minutes.

    What candidates take out is relaxed: shares of them, by price, and whatever they exclude of each other.
    """
    prices = np.array([each.price for each in found])
    least = of.now
    for number in np.argsort(-of.freed / np.maximum(prices, 1e-9), kind="stable").tolist():
        price = float(prices[number])
        if of.freed[number] > 0 and money > 0:
            share = min(money / price, 1.0) if price > 0 else 1.0
            least -= share * float(of.freed[number])
            money -= share * price
    return max(least, 0.0)
