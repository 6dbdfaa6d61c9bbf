"""The steps of a plan in words: what each does, what the load is after it, and what speaks for it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..decisions.plan import Decision, Plan
from ..load.costs import at_moments, costs
from ..load.load_map import load_map, played
from ..piece.moments import SILENT
from ..session.session import Session
from ..survey import Survey, middle, with_plan
from ..units import clock, percent


class Step(NamedTuple):
    """One decision of a suggested plan, in the order in which they save most; `load` is the worst load after it.

    `others` are taken with it; `why` says what speaks for it.
    """

    decision: Decision
    words: str
    price: float
    load: float
    others: tuple[Decision, ...] = ()
    why: str = ""

    def decisions(self) -> tuple[Decision, ...]:
        return (self.decision, *self.others)


def steps(of: Survey) -> list[Step]:
    """The decisions of the plan in force, one after the other, with the worst load after each; they have no price."""
    free = [(decisions, 0.0) for decisions in of.plan.steps()]
    return _steps(of, Plan((), of.plan.pinned), free, float(of.before.load.max()))


def _steps(of: Survey, plan: Plan, priced: Sequence[tuple[tuple[Decision, ...], float]], before: float) -> list[Step]:
    """What each decision brings when one after the other is taken into a plan whose worst load is `before`."""
    if not priced:
        return []
    found, at, after = [], worst_block(of), of.planned
    for decisions, price in priced:
        for decision in decisions:
            plan = plan.decide(decision)
        after = with_plan(of, plan, after)
        load = float(load_map(after, of.machine, of.buffer).load.max())
        more = f" and {len(decisions) - 1} more" if len(decisions) > 1 else ""
        words = f"{told_as(of.session, decisions[0])}{more}: worst {percent(before)} → {percent(load)}"
        found.append(Step(decisions[0], words, price, load, decisions[1:], why(of, at, decisions)))
        before = load
    return found


class WorstBlock(NamedTuple):
    """The worst block without the plan: its second, who sounds in it, what each strip takes (S, seconds), and where."""

    second: float
    sounding: NDArray[np.bool_]
    strips: NDArray[np.float64]
    where: str


def worst_block(of: Survey) -> WorstBlock:
    """The middle of the worst moment of the session as it is."""
    second = middle(of.before, of.before.worst)
    states = of.now.moments.states[of.now.moments.at(second)]
    each = costs(of.now, of.machine, of.buffer)
    factor = float(played(of.now, of.machine, each, states[None, :]).factor[0])
    before = [section.name for section in of.session.sections if section.start <= second]
    where = f" in {before[-1]}" if before else ""
    return WorstBlock(second, states != SILENT, at_moments(each, states) * factor, where)


def why(of: Survey, at: WorstBlock, decisions: Sequence[Decision]) -> str:
    """What speaks for decisions: what their strips take of the worst block, where that is, and how often they sound."""
    ids = {decision.strip for decision in decisions}
    numbers = [k for k, strip in enumerate(of.session.strips) if strip.id in ids]
    share = percent(float(at.strips[numbers].sum()) / of.deadline)
    who = "it takes" if len(numbers) == 1 else f"the {len(numbers)} take"
    silent = "" if at.sounding[numbers].any() else ", though silent"
    times = of.now.moments.times
    seconds = float(of.now.moments.sounding[:, numbers].any(axis=1) @ np.diff(times))
    heard = f"heard in {percent(seconds / max(float(times[-1]), 1e-9))} of the piece"
    return f"{who} {share} of one core in the worst block{at.where} ({clock(at.second)}){silent}; {heard}"


def told_as(session: Session, decision: Decision) -> str:
    """A decision in words: what it does to which track."""
    more = ", unloaded" if decision.unloaded else ", source muted" if decision.muted else ""
    return _told(session, decision) + more


def _told(session: Session, decision: Decision) -> str:
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
    if decision.kind == "bounce" and decision.start is not None and decision.end is not None:
        return f"Bounce {clock(decision.start)} to {clock(decision.end)} of {strip.name}"
    if decision.kind == "bounce" and decision.through == -1:
        return f"Bounce the instrument of {strip.name}"
    if decision.kind == "bounce":
        return f"Bounce {strip.name}" if strip.kind == "track" else f"Bounce {strip.name} with all that feeds it"
    if decision.kind == "share":
        return f"Share {label} of {strip.name} on a bus"
    if decision.kind == "outboard":
        return f"Move {label} of {strip.name} outboard"
    return f"Switch off {label} on {strip.name}" if label else f"Switch off {strip.name}"
