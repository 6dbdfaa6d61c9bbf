"""Strips that may sound at other times under a plan, and the most that its steps can save of them there.

A plugin that is switched off, set another way or shared takes its tail with it: its strip, and all that it feeds, fall
silent sooner or later than now. What another step saves is then not what it saves alone: a suspended track costs less
only where it is silent. Rows that hold of every plan count each step with the most that it saves in any state in which
a strip may be under some plan; tails add up, so that all of them lie between the shortest and the longest.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..decisions.apply import apply
from ..decisions.decision import Decision
from ..load.case import Case, case
from ..load.costs import Among
from ..load.prepared import Prepared, prepare
from ..piece.moments import FEWER, FULL, SILENT, tail
from ..session.session import Session
from ..survey import Survey
from .candidates import Candidate, Effect, changed

Figures = NDArray[np.float64]
States = NDArray[np.int16]
# Sessions that have been made: with the decisions of a candidate, and every other tail as it is ("") or at its extreme.
Known = dict[tuple[str, tuple[Decision, ...]], Prepared]
# What is saved of a strip's cost, and of what it costs more beside others, in each kind of moment (D, seconds).
Saved = tuple[Figures, Figures]


def moves(of: Survey, candidate: Candidate) -> bool:
    """Whether strips may fall silent at other times with a candidate: their tails are others."""
    return any(before != after for before, after in _tails(of, candidate))


def lengthens(of: Survey, candidate: Candidate) -> bool:
    """Whether strips may sound on for longer with a candidate."""
    return any(before < after for before, after in _tails(of, candidate))


def _tails(of: Survey, candidate: Candidate) -> Iterator[tuple[float, float]]:
    """How long a candidate's strips ring on (seconds) before and after it."""
    cards = of.planned.cards
    for decision in candidate.decisions if candidate.kind in ("off", "lighten", "share") else ():
        strip = of.session.strip(decision.strip)
        yield tail(strip, cards), tail(changed(strip, decision, of.session), cards)


class Activity:
    """The states in which strips may be at some seconds under any choice of candidates, of which some are `moving`."""

    def __init__(
        self, of: Survey, at: Case, among: Among, moving: Sequence[Candidate], seconds: Figures, now: States,
        known: Known,
    ) -> None:  # fmt: skip
        """`now` (D, S) are the states at these seconds (D) without any of them, in the session of a case, in which
        plugins do so much to each other. What is made is looked up in `known` first, and kept there."""
        self.of, self._at, self._among, self._moving, self._seconds, self.now = of, at, among, moving, seconds, now
        self._known = known
        others = [self._made(moving, which, ()) for which in ("shortest", "longest")] if moving else []
        self.states = np.array([now, *(states for there in others for states in self._states(there))])
        # The strips (numbers) of which that is not one and the same.
        self.varied = frozenset(np.flatnonzero((self.states != now).any(axis=(0, 1))).tolist())

    def _extreme(self, moving: Sequence[Candidate], shorter: bool) -> Session:
        """The session with every tail as short, or as long, as any choice makes it."""
        strips, cards = {strip.id: strip for strip in self.of.session.strips}, self.of.planned.cards
        for decision in (d for candidate in moving for d in candidate.decisions):
            before = strips[decision.strip]
            after = changed(before, decision, self.of.session)
            first, last = (after, before) if shorter else (before, after)
            if tail(first, cards) < tail(last, cards):
                strips[decision.strip] = after
        return msgspec.structs.replace(self.of.session, strips=tuple(strips.values()))

    def _made(self, moving: Sequence[Candidate], which: str, decisions: tuple[Decision, ...]) -> Prepared:
        """The session with some decisions, and with all other tails as short or as long as these candidates make them.
        """
        if (which, decisions) not in self._known:
            session = self._extreme(moving, shorter=which == "shortest")
            after = apply(session, self.of.plan.with_all(decisions)).session
            self._known[which, decisions] = prepare(after, self.of.planned.cards, self.of.planned, self.of.now)
        return self._known[which, decisions]

    def _states(self, there: Prepared) -> list[States]:
        """The states at the seconds in another session (D, S each), as those of this one are numbered: what plays so
        many notes as it never does here costs what it does in silence at least, and at most what it does with all. What
        lasts for less than a block counts to a neighbour, and not to the same one in every session: as it does there,
        and as it is then and a block later."""
        own, moments = self._at, there.moments
        numbers = {strip.id: k for k, strip in enumerate(there.session.strips)}
        here = [numbers[strip.id] for strip in own.session.strips]
        joined, later = moments.lasting(own.deadline), self._seconds + own.deadline
        places = (joined, self._seconds), (moments, self._seconds), (moments, later)
        found = np.array([of.states[of.all_at(seconds)][:, here] for of, seconds in places])
        if moments.notes == own.moments.notes:
            return list(found)
        known = {count: FEWER + k for k, count in enumerate(own.moments.notes)}
        tables = (
            [SILENT, FULL, *(known.get(count, unknown) for count in moments.notes)] for unknown in (SILENT, FULL)
        )
        return [states for table in tables for states in np.array(table, np.int16)[found]]

    def bus(self, candidate: Candidate) -> Saved:
        """What the bus of a candidate that shares takes at least (saved: not above 0), with every other tail as short
        as it can be; nothing where it is not made then."""
        shared = {d.strip: self.of.session.strip(d.strip).place_of(d.use or "") for d in candidate.decisions}
        others = [each for each in self._moving if not any(self._excludes(shared, d) for d in each.decisions)]
        made = self._made(others, "shortest", candidate.decisions)
        there = case(made, self.of.machine, self.of.buffer, self._among)
        own = {strip.id for strip in self._at.session.strips}
        parts = [number for number, strip in enumerate(there.session.strips) if strip.id not in own]
        states = there.moments.states[there.moments.all_at(self._seconds)]
        return -there.rows(states)[:, parts].sum(axis=1), -there.beside(states)[:, parts].sum(axis=1)

    def _excludes(self, shared: dict[str, int], decision: Decision) -> bool:
        """Whether a decision is about what is shared, from these places of strips on."""
        if decision.strip not in shared:
            return False
        place = self.of.session.strip(decision.strip).place_of(decision.use or "")
        return decision.kind == "share" or place >= shared[decision.strip]

    def reached(self, candidate: Candidate) -> set[int]:
        """The strips whose activity a candidate may change: its own, and what they feed (numbers)."""
        about, graph = {d.strip for d in candidate.decisions}, self._at.prepared.graph
        found = {k for k, s in enumerate(self._at.session.strips) if s.id in about or s.part_of in about}
        for task in graph.order.tolist():
            if task in found:
                found.update(graph.successors_of(task).tolist())
        return found

    def most(self, strip: int, effect: Effect | None, moving: bool) -> Saved:
        """The most that a candidate saves of a strip, with its effect there if it has one: in any state, and if it is
        one of those that move strips, with what may become of the state."""
        found = []
        states, now = self.states[:, :, strip], self.now[:, strip]
        costs = self._at.costs
        for own, by_state in (("saves", costs.by_state), ("beside", costs.beside)):
            saves = getattr(effect, own)[states] if effect is not None else np.zeros(states.shape)
            # What it adds counts for nothing: another candidate may take it all (see `Rows`).
            saves = np.maximum(saves, 0.0)
            highest = saves.max(axis=0)
            if moving:
                of = by_state[:, strip]
                highest = np.maximum(highest, (of[now] - of[states] + saves).max(axis=0))
            found.append(highest)
        return found[0], found[1]
