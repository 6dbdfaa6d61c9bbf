"""The rows of the program: what a plan must leave of each moment's work, by the bounds of the block computation.

n candidates, D different moments ("kinds"), S strips. Every row says: a weighted sum of what strips cost, and cost more
beside others, plus a constant must not exceed what is allowed, in seconds; candidates take something off it. A row is
valid if no block of that kind could be shorter than its sum: then its least price is one that no plan can undercut.

From `block.bounds`: with m the finishing time without slowing, m(1 − ρ/(T − 1)) + Wρ/(T − 1) ≥ (W + B)/T + g (ℓ − W/T)
for every bound ℓ ≤ m, with ρ = B/W, and g = 1 − ρ'/(T − 1) for any ρ' ≥ ρ. Where a plan may take from B most of what
there is of it, that says little: then m + (W − m)/(T − 1) · B/W ≥ ℓ + B (1 − r)/(T − 1) says more, for any r ≥ ℓ/W.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.bounds import cuts
from ..block.play import in_a_row
from ..load.case import Case, case
from ..load.costs import Among, beside_share, touched
from ..piece.moments import SILENT
from ..survey import Survey, with_plan
from .activity import Activity, Known, Saved, moves
from .candidates import Candidate, Effect, Held, cheaper, held

Figures = NDArray[np.float64]
# In the place of a strip's number: a bus that a candidate brings.
BUS = -1
# A bound of which so much counts says as much as one in full.
NEARLY = 0.98


class Twice(NamedTuple):
    """Pairs of candidates (P) that take the same off a strip where both are taken: one leaves next to nothing of it, so
    what the other would take is taken already. `one` and `other` are their numbers, `strip` is the strip's; `seconds`
    (P, D) is what is counted twice in each kind, `beside` (P, D) what of the cost beside others."""

    one: NDArray[np.int64]
    other: NDArray[np.int64]
    strip: NDArray[np.int64]
    seconds: Figures
    beside: Figures

    def both(self, taken: Figures) -> Figures:
        """How much of each pair is sure to be taken together (P), with so much of each candidate (n, 0 to 1)."""
        found: Figures = np.maximum(taken[self.one] + taken[self.other] - 1, 0.0)
        return found


class Bound(NamedTuple):
    """A bound ℓ as a weighted sum of what strips cost (`weights`: S) and a `constant` (seconds). `bus` (n) are the
    weights of the buses that candidates bring; without, these count for their work alone. The weighted sum of strips
    `along` (S, 0 to 1) is in it, too, but nothing that they cost more than now. With `in_full` it counts in full, and
    of what blocks cost more beside others as much as is sure then."""

    weights: Figures
    constant: float = 0.0
    bus: Figures | None = None
    along: Figures | None = None
    in_full: bool = False


class Row(NamedTuple):
    """One row: kind of moment, what it comes to without any candidate (seconds), and what each takes off it, and each
    pair that would take something twice (n + P; the latter is never positive: see `Twice`). `bound` is what it comes
    of; None for all work, evenly spread."""

    kind: int
    whole: float
    saves: Figures
    bound: Bound | None


class Rows:
    """All rows of a survey's moments, made as they are needed.

    With `among` costs are those in a session whose plugins do so little to each other: as little as any plan leaves of
    it, so that no plan can cost less. `money` (minutes) is what a plan may cost for the rows to hold of it;
    without, they hold of none in particular, and are only near the truth. With `allowed` (seconds) they hold only of
    plans under which no block takes longer. With `like`, other rows of the same, the sessions that were made for those
    are used again; of other candidates, those that are `known` (see `known_without`).
    """

    def __init__(
        self,
        of: Survey,
        found: list[Candidate],
        among: Among | None = None,
        money: float | None = None,
        like: Rows | None = None,
        allowed: float = np.inf,
        known: Known | None = None,
    ) -> None:
        self.of, self.candidates = of, found
        self._known: Known = like._known if like is not None else known or {}
        self._bounds: dict[int, list[Bound]] = like._bounds if like is not None else {}
        self.held: Held = like.held if like is not None else held(of.case, found)
        moving = like._moving if like is not None else [n for n, each in enumerate(found) if moves(of, each)]
        self._moving: list[int] = moving
        self.among = Among(touched(of.planned, of.machine)) if among is None else among
        self.case: Case = of.case if among is None else case(of.planned, of.machine, of.buffer, among)
        moments = of.case.moments
        self.distinct = moments.distinct
        # Of the moments of one kind the longest stands for them.
        order = np.argsort(np.diff(moments.times), kind="stable")
        self.moment = np.zeros(len(self.distinct), np.int64)
        self.moment[moments.of[order]] = order
        self._starts = moments.times[self.moment]
        self.seconds = (self._starts + moments.times[self.moment + 1]) / 2
        self.cost, self.beside = self.case.rows(self.distinct), self.case.beside(self.distinct)
        self.threads = self.case.threads
        self._collect()
        self._counts_beside = self.threads > 1
        self.g, self.sure = self._share_alone(money, allowed)
        self._keep_what_goes_with_all()
        self.twice = self._find_twice()
        self._members = np.zeros((len(found), self.cost.shape[1]), np.bool_)
        for n, candidate in enumerate(found):
            self._members[n, list(candidate.members)] = True
        self._with_bus = np.flatnonzero(self._members.any(axis=1))
        self.read_ahead = bool(of.planned.session.host.read_ahead) and bool(of.planned.live.any())
        self._closing: dict[int, list[Row]] = {}

    def known_without(self, number: int) -> Known:
        """The sessions that were made, as far as they are the same for all candidates but one."""
        if number not in self._moving:
            return self._known
        return {(which, decisions): made for (which, decisions), made in self._known.items() if not which}

    def are_like(self, other: Rows) -> bool:
        """Whether every row is the same here and there, of the same candidates of one survey."""
        same = self.candidates is other.candidates and self.case is other.case
        alike = np.array_equal(self.g, other.g) and np.array_equal(self.sure, other.sure)
        return same and self._counts_beside == other._counts_beside and alike

    def _share_alone(self, money: float | None, allowed: float) -> tuple[Figures, Figures]:
        """The g of each kind of moment (D): 1 − ρ'/(T − 1), ρ' being the most that B/W can come to under a plan; and
        which share of B is sure to come to a bound in full (D): (1 − r)/(T − 1), r being the most that ℓ/W can, as ℓ is
        no more than what is allowed.

        Of a plan that costs so much at most: the rest of the work is at least what is left when shares of the
        candidates are taken by what they save for their price. Where B could exceed (T − 1) W only the work counts.
        """
        if self.threads == 1:
            return np.ones(len(self.distinct)), np.zeros(len(self.distinct))
        work, beside = self.cost.sum(axis=1), self.beside.sum(axis=1)
        taken = beside_share(self.case.prepared.figures, self.case.machine, self.threads)
        most, sure = float(np.max(taken, initial=0.0)), np.zeros(len(work))
        if money is not None:
            saved = self._summed(np.maximum(self.saved, 0.0))
            work = np.maximum(work - self._most_saved(saved, money), 1e-12)
            beside = beside + np.maximum(-self.less, 0.0).sum(axis=0)
            sure = np.maximum(1 - allowed / work, 0.0) / (self.threads - 1)
        share = np.minimum(np.divide(beside, work, out=np.zeros_like(work), where=work > 0), most)
        self._counts_beside = bool((share <= self.threads - 1).all())
        found: Figures = np.clip(1 - share / (self.threads - 1), 0.0, 1.0)
        return found if self._counts_beside else np.ones(len(self.distinct)), sure

    def _most_saved(self, saved: Figures, money: float) -> Figures:
        """What candidates (n, D) can save at most for so many minutes (D): shares of them, best for the price first."""
        prices = np.array([candidate.price for candidate in self.candidates])
        order = np.argsort(-saved / np.maximum(prices, 1e-9)[:, None], axis=0, kind="stable")
        spent = np.cumsum(prices[order], axis=0)
        share = np.clip((money - spent) / np.maximum(prices[order], 1e-9) + 1, 0.0, 1.0)
        found: Figures = (share * np.take_along_axis(saved, order, axis=0)).sum(axis=0)
        return found

    def _collect(self) -> None:
        """Every effect of every candidate as arrays: E effects, which candidate and strip, and what is saved (E, D)."""
        moving, seconds = [self.candidates[n] for n in self._moving], self._starts + 1e-9
        self._activity = Activity(self.of, self.case, self.among, moving, seconds, self.distinct, self._known)
        effects, moves = self._own_effects(), set(self._moving)
        found = [
            (n, *each)
            for n, one in enumerate(self.candidates)
            for each in self._effects(one, effects[n], n in moves)
        ]
        kinds = len(self.distinct)
        self.by = np.array([each[0] for each in found], np.int64)
        self.strip = np.array([each[1] for each in found], np.int64)
        self.saved = np.array([each[2] for each in found], np.float64).reshape(-1, kinds)
        self.less = np.array([each[3] for each in found], np.float64).reshape(-1, kinds)
        self._is_bus = self.strip == BUS

    def _keep_what_goes_with_all(self) -> None:
        """What one plugin's change adds to a strip counts for nothing where another candidate may take it all.

        Added up, the two would leave what is not there: a lighter setting that costs more in silence, of a plugin that
        is suspended in silence.
        """
        whole = np.array([candidate.decision.use is None for candidate in self.candidates], np.bool_)[self.by]
        part = ~whole & np.isin(self.strip, self.strip[whole & ~self._is_bus])
        self.saved[part], self.less[part] = np.maximum(self.saved[part], 0.0), np.maximum(self.less[part], 0.0)

    def _find_twice(self) -> Twice:
        """Of each strip that may be suspended in silence, what else candidates may change in it.

        No more is given back than what both together would take beyond all that the strip costs but the host's own
        time for it, so that it holds whatever state the strip is in. Where no candidate moves when it sounds, that is
        known: suspended in silence it costs the host's own time alone, of which a plugin less takes its part.
        """
        changing: dict[int, list[tuple[int, Effect]]] = {}
        for n, candidate in enumerate(self.candidates):
            for effect in candidate.effects if candidate.kind in ("off", "lighten", "share") else ():
                changing.setdefault(effect.strip, []).append((n, effect))
        pairs: list[tuple[int, int, int]] = []
        fewer: list[int] = []
        for n, candidate in enumerate(self.candidates):
            for effect in candidate.effects if candidate.kind == "suspend" else ():
                for other, change in changing.get(effect.strip, ()):
                    pairs.append((n, other, effect.strip))
                    fewer.append(len(change.was.live_uses()) - len(change.now.live_uses()))
        places = {each: e for e, each in enumerate(zip(self.by.tolist(), self.strip.tolist(), strict=True))}
        # What takes nothing here takes nothing twice.
        found = [(places.get((n, at), -1), places.get((other, at), -1)) for n, other, at in pairs]
        by, others, strips = np.array(pairs, np.int64).reshape(-1, 3).T
        one, two = np.array(found, np.int64).reshape(-1, 2).T
        there = (one >= 0) & (two >= 0)
        # Of what suspending leaves (the host's own time for the strip) the other may take something, too.
        seconds, beside = np.zeros((2, len(pairs), len(self.distinct)))
        moves = np.isin(strips[there], list(self._activity.varied))[:, None]
        is_known = (self.distinct[:, strips[there]].T == SILENT) & ~moves
        stays, each = self.case.overheads(strips[there])[..., None]
        own, none = each * np.array(fewer, np.int64)[there, None], np.zeros_like(each)
        for twice, cost, saved, rest, most in (
            (seconds, self.cost, self.saved, stays, own), (beside, self.beside, self.less, none, none),
        ):  # fmt: skip
            left = np.maximum(cost[:, strips[there]].T - saved[one[there]] - rest, 0.0)
            left = np.where(is_known, np.minimum(left, most), left)
            twice[there] = np.maximum(saved[two[there]] - left, 0.0)
        return Twice(by, others, strips, seconds, beside)

    def _own_effects(self) -> list[Sequence[Effect]]:
        """The effects of each candidate by the costs of this case."""
        if self.case is self.of.case:
            return [candidate.effects for candidate in self.candidates]
        here = iter(cheaper(self.held, self.of.case, self.case))
        return [[next(here) for _ in candidate.effects] for candidate in self.candidates]

    def _effects(
        self, of: Candidate, effects: Sequence[Effect], is_moving: bool
    ) -> list[tuple[int, Figures, Figures]]:
        """What a candidate takes off strips in each kind: (number, (D), (D) seconds); `BUS` is one of its own."""
        found: dict[int, Saved] = {}
        for effect in effects:
            states = self.distinct[:, effect.strip]
            found[effect.strip] = effect.saves[states], effect.beside[states]
        if is_moving or of.bus is not None:
            found = self._by_moment(of)
        varied = self._activity.varied
        by_strip = {effect.strip: effect for effect in effects}
        most = {
            strip: self._activity.most(strip, by_strip.get(strip), is_moving)
            for strip in varied & (self._activity.reached(of) if is_moving else set(by_strip))
        }
        if varied and BUS in found:
            most[BUS] = self._activity.bus(of)
        for strip, (saved, less) in most.items():
            known = found.get(strip, (saved, less))
            found[strip] = np.maximum(known[0], saved), np.maximum(known[1], less)
        return [(strip, *each) for strip, each in found.items()]

    def _by_moment(self, of: Candidate) -> dict[int, Saved]:
        """The same read off the session with it, moment by moment: strips may sound at other times there."""
        if ("", of.decisions) not in self._known:
            self._known["", of.decisions] = with_plan(self.of, self.of.plan.with_all(of.decisions))
        there = case(self._known["", of.decisions], self.of.machine, self.of.buffer, self.among)
        # What rings on less long is silent from some instant on: at its start the moment is as it was.
        states = there.moments.states[there.moments.all_at(self._starts + 1e-9)]
        rows, beside = there.rows(states), there.beside(states)
        numbers = {strip.id: k for k, strip in enumerate(there.session.strips)}
        others = [numbers.pop(strip.id) for strip in self.of.planned.session.strips]
        saved, less = self.cost - rows[:, others], self.beside - beside[:, others]
        differ = (np.maximum(np.abs(saved), np.abs(less)) > 1e-15).any(axis=0)
        found: dict[int, Saved] = {n: (saved[:, n], less[:, n]) for n in np.flatnonzero(differ).tolist()}
        if numbers:
            parts = list(numbers.values())
            found[BUS] = -rows[:, parts].sum(axis=1), -beside[:, parts].sum(axis=1)
        return found

    def _summed(self, of_effects: Figures) -> Figures:
        """What effects (E, D) come to for each candidate (n, D): those of one stand side by side."""
        found = np.zeros((len(self.candidates), of_effects.shape[1]))
        begins = np.flatnonzero(np.diff(self.by, prepend=-1))
        if len(begins):
            found[self.by[begins]] = np.add.reduceat(of_effects, begins, axis=0)
        return found

    @cached_property
    def _even(self) -> tuple[Figures, Figures]:
        """The rows of all work, of all kinds: what they come to (D), and what candidates take off (n, D)."""
        whole, saved = self.cost.sum(axis=1), self.saved
        if self._counts_beside:
            whole, saved = whole + self.beside.sum(axis=1), saved + self.less
        return whole / self.threads, self._summed(saved) / self.threads

    def full(self, taken: Figures) -> Figures:
        """What is taken of each candidate (n, 0 to 1), and of the pairs that would take something twice (n + P)."""
        return np.concatenate((taken, self.twice.both(taken)))

    def even_at(self, kinds: NDArray[np.int64], chosen: Figures) -> Figures:
        """What the rows of all work come to (K, seconds) with so much of each candidate (n, 0 to 1)."""
        whole, saved = self._even
        twice = self.twice.both(chosen) @ (self.twice.seconds + self._counts_beside * self.twice.beside)[:, kinds]
        return np.asarray(whole[kinds] - chosen @ saved[:, kinds] + twice / self.threads, np.float64)

    def taken_off(self, kinds: NDArray[np.int64]) -> Figures:
        """What each candidate takes off the work of these kinds, evenly spread (n, K; seconds)."""
        return self._even[1][:, kinds]

    @cached_property
    def gain(self) -> Figures:
        """What each candidate takes off the work, where it takes most (n, seconds)."""
        found: Figures = self._even[1].max(axis=1) if len(self.candidates) else np.zeros(0)
        return found

    @cached_property
    def gain_in_all(self) -> Figures:
        """What each candidate takes off the work of all kinds together (n, seconds)."""
        found: Figures = self._even[1].sum(axis=1)
        return found

    def brought(self) -> Figures:
        """What candidates bring to a block at most, in each kind (D, seconds): the buses of those that share."""
        worse: Figures = np.maximum(-self._summed(self.saved), 0.0).sum(axis=0)
        return worse

    def bound_at(self, kind: int, chosen: Figures) -> float:
        """The highest of all bounds of a kind of moment with so much of each candidate (n, 0 to 1), in seconds."""
        cost = self.costs_at(np.array([kind]), chosen)[0]
        rows = [self.work(kind), *self.closing(kind)]
        rows += self.chain(kind, cost) if self.threads > 1 else []
        taken = self.full(chosen)
        return max(row.whole - float(row.saves @ taken) for row in rows)

    def costs_at(self, kinds: NDArray[np.int64], chosen: Figures) -> Figures:
        """What strips cost (K, S, seconds) in these kinds if so much of each candidate is taken (n, 0 to 1)."""
        found = self.cost[kinds].copy()
        taken = self.saved[:, kinds] * chosen[self.by][:, None]
        own = ~self._is_bus & (chosen[self.by] > 0)
        np.subtract.at(found.T, self.strip[own], taken[own])
        np.add.at(found.T, self.twice.strip, self.twice.seconds[:, kinds] * self.twice.both(chosen)[:, None])
        return np.maximum(found, 0.0)

    # Rows

    def work(self, kind: int) -> Row:
        """All work, evenly spread."""
        whole, saved = float(self.cost[kind].sum()), self.saved[:, kind]
        if self._counts_beside:
            whole, saved = whole + float(self.beside[kind].sum()), saved + self.less[:, kind]
        both = self._both(kind, np.full(self.cost.shape[1], 1 / self.threads), self._counts_beside / self.threads)
        saves = self._summed(saved[:, None] / self.threads)[:, 0]
        return Row(kind, whole / self.threads, np.append(saves, -both), None)

    def weighted(self, kind: int, bounds: Sequence[Bound]) -> list[Row]:
        """The rows of bounds of one kind of moment."""
        if not bounds:
            return []
        t, taken, is_bus = self.threads, self.saved[:, kind], self._is_bus
        strips, count = self.cost.shape[1], len(self.candidates)
        g = np.array([1.0 if each.in_full else float(self.g[kind]) for each in bounds])
        more = np.array([float(self.sure[kind]) if each.in_full else 1 / t for each in bounds]) * self._counts_beside
        along = np.array([np.zeros(strips) if each.along is None else each.along for each in bounds])
        bus = np.array([np.zeros(count) if each.bus is None else each.bus for each in bounds])
        even, part = ((1 - g) / t)[:, None], g[:, None]
        own = even + part * np.array([each.weights for each in bounds])
        saved = taken * np.where(is_bus, even + part * bus[:, self.by], own[:, self.strip])
        saved += np.where(is_bus, 0.0, part * along[:, self.strip] * np.maximum(taken, 0.0))
        own += part * along
        whole = own @ self.cost[kind] + g * np.array([each.constant for each in bounds])
        whole, saved = whole + more * self.beside[kind].sum(), saved + more[:, None] * self.less[:, kind]
        saves, both = self._summed(saved.T).T, self._both(kind, own, more)
        return [Row(kind, float(whole[k]), np.append(saves[k], -both[k]), bound) for k, bound in enumerate(bounds)]

    def _both(self, kind: int, own: Figures, more: Figures | float) -> Figures:
        """What each pair would take twice (…, P; seconds) where strips count with such weights (`own`: …, S), and what
        they cost more beside others with these (`more`: …)."""
        twice = self.twice
        found: Figures = own[..., twice.strip] * twice.seconds[:, kind]
        return found + np.multiply.outer(more, twice.beside[:, kind])

    def _each_way(self, kind: int, bounds: Sequence[Bound]) -> list[Row]:
        """The rows of bounds, and where that may say more those in which they count in full."""
        in_full = [bound._replace(in_full=True) for bound in bounds if self.g[kind] < NEARLY]
        return self.weighted(kind, [*bounds, *in_full])

    def again(self, row: Row) -> Row:
        """A row of other rows as it is in these, of the same candidates."""
        return self.work(row.kind) if row.bound is None else self.weighted(row.kind, [row.bound])[0]

    def closing(self, kind: int) -> list[Row]:
        """The rows of late and early cuts of the graph: what must be through before the last strips can run.

        In hosts that read ahead only the work counts, and that of the live thread.
        """
        if kind not in self._closing:
            self._closing[kind] = self._ahead(kind) if self.read_ahead else self._cut(kind)
        return self._closing[kind]

    def _cut(self, kind: int) -> list[Row]:
        if kind not in self._bounds:
            self._bounds[kind] = self._cuts(kind) if self.threads > 1 else []
        return self._each_way(kind, self._bounds[kind])

    def _cuts(self, kind: int) -> list[Bound]:
        """The bounds of cuts, by what strips cost now: they hold for whatever they cost."""
        found = []
        parts, now = self.case.host.parts, self.of.case.rows(self.distinct[kind])
        count = len(now)
        for cut in cuts(self.of.planned.tasks, np.tile(now / parts, parts), self.threads):
            inside, along = (each.reshape(parts, count).mean(axis=0) for each in (cut.tasks, cut.on))
            weights = inside / self.threads
            if cut.last >= 0:
                weights[cut.last % count] += 1 / parts
            bus = self._least_of_members(inside) / self.threads
            found.append(Bound(weights, cut.along - float(along @ now), bus, along))
        return found

    def _least_of_members(self, of: Figures) -> Figures:
        """For each candidate that brings a bus the least of its members' figures (n); 0 for the others."""
        found = np.zeros(len(self.candidates))
        found[self._with_bus] = np.where(self._members[self._with_bus], of, np.inf).min(axis=1, initial=np.inf)
        return found

    def _ahead(self, kind: int) -> list[Row]:
        """Of a host that reads ahead: the live thread's work, and the rest on the other threads."""
        if self.threads == 1:
            return []
        live = self.of.planned.live.astype(float)
        bus = np.array([float(any(live[m] for m in candidate.members)) for candidate in self.candidates])
        rest = 1 / (self.threads - 1)
        of_rest = Bound((1 - live) * rest, bus=(1 - bus) * rest)
        return self._each_way(kind, [Bound(live, bus=bus), of_rest])

    def chain(self, kind: int, cost: Figures) -> list[Row]:
        """The rows of what must run one after the other while strips cost this much (S, seconds)."""
        weights = in_a_row(self.of.planned.tasks, self.case.host, self.of.planned.live, cost, self.threads)
        return self._each_way(kind, [Bound(weights)])
