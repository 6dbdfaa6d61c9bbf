"""What would help a moment's block most at once: every single step is tried by the block computation."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import msgspec
import numpy as np

from ..decisions.decision import Decision
from ..decisions.price import Price
from ..load.case import Case, case
from ..load.prepared import prepare
from ..session.computer import Machine, parts_of
from ..survey import Instant, Survey, saving
from .candidates import Candidate, Wishes, candidates, wishes_for
from .steps import steps_of

# So many of the steps that save most work are tried in full, and what helps less than this is no help.
TRIED = 12
HELPS = 0.001
PARTS = (2, 4)


class Help(NamedTuple):
    """Decisions that go together, what they cost, and the load of this moment's block with them (fraction)."""

    decisions: tuple[Decision, ...]
    price: Price
    load: float


class OtherWay(NamedTuple):
    """The load of this moment's block in a host that takes tracks in another order, or divides blocks (fraction)."""

    listed: bool
    parts: int
    load: float


class Kept(NamedTuple):
    """The load of this moment's block with the host kept on so many of this computer's cores (fraction)."""

    machine: Machine
    load: float


def best_help(of: Survey, at: Instant, wishes: Wishes | None = None) -> Help | None:
    """The single step that lowers this block most, of those that a plan could take; None if none does.

    Steps that go together (one effect on a bus, one kind of plugin in a lighter setting) are tried together.
    """
    wishes = wishes or wishes_for(of, Wishes().weights, Wishes().kinds)
    load = at.rung(of.buffer).load
    chain = set(at.block.strips(at.block.chain)) | set(at.block.strips(at.block.closing))
    groups = list(_together(candidates(of, wishes)))

    def saved(group: list[Candidate]) -> float:
        own = sum(float(e.saves[at.states[e.strip]]) for c in group for e in c.effects)
        return own - sum(float(c.bus[0].max()) for c in group if c.bus is not None)

    by_work = sorted(groups, key=saved, reverse=True)
    on_chain = [group for group in by_work if any(e.strip in chain for c in group for e in c.effects)]
    tried: list[list[Candidate]] = []
    for group in (*by_work[:TRIED], *on_chain[:TRIED]):
        if group not in tried and saved(group) > 0:
            tried.append(group)
    best: tuple[float, float, tuple[Decision, ...]] | None = None
    for group in tried:
        decisions = tuple(d for candidate in group for d in candidate.decisions)
        lower = load - saving(of, at, decisions).load
        minutes = sum(c.price for c in group) + sum({n: m for c in group for n, m in c.once}.values())
        if best is None or (lower, minutes) < best[:2]:
            best = (lower, minutes, decisions)
    if best is None or best[0] >= load - HELPS:
        return None
    step = steps_of(of, of.plan, [best[2]], wishes.terms(of))[0]
    return Help(best[2], step.price, best[0])


def _together(found: list[Candidate]) -> Iterator[list[Candidate]]:
    """Candidates as steps: those that are paid for once together, all others alone."""
    by_once: dict[str, list[Candidate]] = {}
    for candidate in found:
        if candidate.once:
            by_once.setdefault(candidate.once[0][0], []).append(candidate)
        else:
            yield [candidate]
    yield from by_once.values()


def other_ways(of: Survey, at: Instant) -> list[OtherWay]:
    """The same block where the host takes tracks in another order, or divides blocks; what lowers it most first."""
    host, load = of.session.host, at.rung(of.buffer).load
    found = []
    for listed, parts in ((not host.listed, host.parts), *((host.listed, p) for p in PARTS if p != host.parts)):
        other = msgspec.structs.replace(host, listed=listed, parts=parts)
        session = msgspec.structs.replace(of.planned.session, host=other)
        made = _load(of, at, case(prepare(session, of.planned.cards, of.planned, of.now), of.machine, of.buffer))
        if made < load - HELPS:
            found.append(OtherWay(listed, parts, made))
    return sorted(found, key=lambda way: way.load)


def kept_best(of: Survey, at: Instant) -> Kept | None:
    """The same block with the host kept on those cores of this computer that are alike, in the way that lowers it most;
    None if none does, or all are alike anyway, or it is another computer."""
    if of.machine.is_another or of.machine.kept:
        return None
    found = [Kept(each, _load(of, at, case(of.planned, each, of.buffer))) for each in parts_of(of.machine).values()]
    best = min(found, key=lambda each: each.load, default=None)
    return best if best is not None and best.load < at.rung(of.buffer).load - HELPS else None


def _load(of: Survey, at: Instant, there: Case) -> float:
    """What the moment's block takes there, as a fraction of the deadline."""
    states = there.moments.states[there.moments.at(at.second)]
    return float(there.played(np.asarray(states)[None, :]).makespan[0]) / of.deadline
