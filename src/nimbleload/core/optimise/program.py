"""A mixed-integer program over candidates: the least price with which all rows hold (SciPy's HiGHS).

Rows come in as they are broken: first by what the program takes without whole numbers, then in whole numbers.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from copy import copy
from functools import cached_property, partial
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..block.schedule import chains
from ..session.strips import Strip
from ..survey import Survey
from .candidates import Candidate, Wishes
from .rows import Figures, Row, Rows

if TYPE_CHECKING:
    from scipy.optimize import OptimizeResult
    from scipy.sparse import csr_matrix

# So many rows come in at once, and so often at most before the program is solved in whole numbers.
AT_ONCE, ROUNDS = 40, 12
# The solver's last word: so many nodes of its tree, and this relative gap. Seconds would give another plan on another
# day; they only guard against a tree whose nodes never end.
NODES, GAP, SECONDS = 20_000, 1e-6, 60.0
BROKEN = 1e-9
# What SciPy's `milp` says of rows that nothing meets.
INFEASIBLE = 2
# With more rows than this and more than so many candidates the solver takes minutes for an answer in whole numbers: so
# it is where hardly anything reaches the limit.
CROWDED, MANY = 600, 360
# Minutes by which prices may differ for rounding, and how exact a solver's answer is (as a share).
ROOM = 1e-6
TOLERANCE = 1e-6
# Rows that an answer without whole numbers keeps by more than so much of what is allowed are left out at first.
CLOSE = 0.002
# With more candidates than these taken in part, and more than these open, the solver's first node takes many seconds.
HALVES, OPEN = 10, 200
# What is nearer to 0 or 1 than this is not taken, or wholly.
SURE = 1e-6
# Least and most of each candidate (n each).
Ends = tuple[Figures, Figures]


class Solved(NamedTuple):
    """How much of each candidate is taken (n, 0 to 1), and a price that nothing which meets the rows undercuts.

    `reduced` (n, minutes) is by how much a price rises at least above that bound if a candidate goes in that is not
    taken (above 0), or is left out that is taken wholly (below 0); empty where that is not known. In whole numbers the
    solver has looked at so many `nodes` for it.
    """

    taken: Figures
    bound: float
    reduced: Figures = np.zeros(0)
    nodes: int = 0

    @property
    def halves(self) -> int:
        """How many candidates are taken in part."""
        return int(((self.taken > SURE) & (self.taken < 1 - SURE)).sum())


class Program:
    """The rows so far, with everything that decisions exclude of each other.

    `slack` (D, seconds) is asked of each kind of moment beyond its bounds: with 0 everywhere the program is a proof.
    `under` (minutes) is the price of a plan in hand: dearer ones need not be found. `is_hard` says that the solver did
    not come to an end with its last answer in whole numbers: the next would take as long, and say little more.
    """

    def __init__(self, of: Survey, found: list[Candidate], wishes: Wishes, rows: Rows) -> None:
        self.of, self.candidates, self.rows = of, found, rows
        self.under, self.is_hard = np.inf, False
        self.allowed = wishes.limit * of.deadline
        self.prices = np.array([candidate.price for candidate in found])
        once = {name: minutes for candidate in found for name, minutes in candidate.once}
        self._once = {name: k for k, name in enumerate(once)}
        self.objective = np.concatenate((self.prices, np.array(list(once.values()), np.float64)))
        self._pairs = len(rows.twice.one)
        self._pays = np.zeros((len(found), len(once)), np.bool_)
        for number, candidate in enumerate(found):
            self._pays[number, [self._once[name] for name, _ in candidate.once]] = True
        self._fixed = self._structure(wishes)
        self.slack = np.zeros(len(rows.distinct))
        self._rows: list[Row] = []
        self._known: set[bytes] = set()
        self._covers: list[tuple[Figures, float]] = []
        # Which of the rows so far the last answer did not keep by far.
        self._near = np.zeros(0, np.bool_)
        self.relevant = self._relevant()

    def proof(self, rows: Rows, with_covers: bool = False) -> Program:
        """A program of the same candidates on other rows without anything asked in addition, but for covers if wanted;
        every row so far is in it, as it is in those."""
        made = copy(self)
        made.is_hard = False
        made._covers, made._near = list(self._covers) if with_covers else [], np.zeros(0, np.bool_)
        made.rows, made.slack, made.under = rows, np.zeros(len(rows.distinct)), np.inf
        if rows.are_like(self.rows):
            made._rows, made._known = list(self._rows), set(self._known)
            return made
        made._rows, made._known, made.relevant = [], set(), made._relevant()
        for row in self._rows:
            made.add(rows.again(row))
        return made

    @property
    def _minutes(self) -> Figures:
        """The price of each variable: candidates, what is paid once, and pairs, which cost nothing."""
        return np.append(self.objective, np.zeros(self._pairs))

    def price(self, chosen: NDArray[np.bool_]) -> float:
        """What a choice costs, in minutes."""
        paid = self._pays[chosen].any(axis=0)
        return float(self.prices[chosen].sum() + self.objective[len(self.prices) :][paid].sum())

    def prices_with(self, chosen: NDArray[np.bool_]) -> Figures:
        """What a choice costs with each of the candidates added (n, minutes)."""
        once = self.objective[len(self.prices) :]
        more: Figures = self.prices + (self._pays & ~self._pays[chosen].any(axis=0)) @ once
        return self.price(chosen) + more

    @property
    def is_crowded(self) -> bool:
        """Whether an answer in whole numbers would take minutes."""
        return len(self._rows) > CROWDED and len(self.candidates) > MANY

    def _relevant(self) -> NDArray[np.int64]:
        """The kinds of moments that could be over what is allowed: by all that a block could take."""
        worse = self.rows.brought()
        loads = self.rows.case.played(self.rows.distinct).makespan
        return np.flatnonzero(loads + worse > self.allowed * (1 - 1e-9))

    # What decisions exclude of each other

    def _structure(self, wishes: Wishes) -> tuple[csr_matrix, Figures]:
        """Rows ≤ right side: at most one decision about the same plugins, pairs of which both are taken, what is paid
        once, disk space."""
        from scipy.sparse import csr_matrix  # imported here: it would lengthen every start

        count, once = len(self.candidates), len(self._once)
        rows: list[dict[int, float]] = [dict.fromkeys(group, 1.0) for group in self.exclusive()]
        twice = self.rows.twice
        for pair, (one, other) in enumerate(zip(twice.one.tolist(), twice.other.tolist(), strict=True)):
            rows.append({one: 1.0, other: 1.0, count + once + pair: -1.0})
        right = [1.0] * len(rows)
        for number, candidate in enumerate(self.candidates):
            for name, _ in candidate.once:
                rows.append({number: 1.0, count + self._once[name]: -1.0})
                right.append(0.0)
        if wishes.disk is not None:
            rows.append({k: c.disk for k, c in enumerate(self.candidates) if c.disk})
            right.append(wishes.disk)
        entries = [(r, c, v) for r, row in enumerate(rows) for c, v in row.items()]
        shape = (len(rows), count + once + self._pairs)
        if not entries:
            return csr_matrix(shape), np.array(right)
        r, c, v = zip(*entries, strict=True)
        return csr_matrix((v, (r, c)), shape), np.array(right)

    def exclusive(self) -> list[list[int]]:
        """Groups of candidates of which at most one can be taken: about one strip, or about one plugin."""
        by_strip: dict[str, list[int]] = {}
        for number, candidate in enumerate(self.candidates):
            for strip_id in dict.fromkeys(d.strip for d in candidate.decisions):
                by_strip.setdefault(strip_id, []).append(number)
        groups = []
        for strip_id, numbers in by_strip.items():
            strip = self.of.session.strip(strip_id)
            whole = [n for n in numbers if self.candidates[n].decision.use is None]
            if len(whole) > 1:
                groups.append(whole)
            for place, use in strip.places():
                about = [n for n in numbers if self._is_about(self.candidates[n], strip, place, use.id)]
                if len(about) > 1 and not set(about) <= set(whole):
                    groups.append(about)
        unique = {tuple(sorted(group)) for group in groups}
        return [list(g) for g in sorted(unique) if not any(set(g) < set(other) for other in unique)]

    @staticmethod
    def _is_about(of: Candidate, strip: Strip, place: int, use_id: str) -> bool:
        decision = next(d for d in of.decisions if d.strip == strip.id)
        if decision.kind == "freeze":
            return place <= (len(strip.inserts) - 1 if decision.through is None else decision.through)
        if decision.kind == "share":
            return place >= strip.place_of(decision.use or "")
        return decision.use == use_id

    def is_allowed(self, chosen: NDArray[np.bool_]) -> bool:
        """Whether no two of a choice exclude each other, and it keeps within the disk space."""
        both = self.rows.twice.both(chosen.astype(float))
        whole = np.concatenate((chosen, self._pays[chosen].any(axis=0), both)).astype(float)
        matrix, right = self._fixed
        return bool((matrix @ whole <= right + 1e-9).all())

    # Rows that are broken

    def add(self, row: Row) -> bool:
        """Takes a row in; false if it was there, or nothing can break it."""
        mark = row.kind.to_bytes(4, "little") + np.round(row.saves, 15).tobytes() + np.float64(row.whole).tobytes()
        if mark in self._known or (
            row.whole <= self.allowed
            and row.saves[: len(self.candidates)].min(initial=0.0) >= 0
            and not self.slack.any()
        ):
            return False
        self._known.add(mark)
        self._rows.append(row)
        return True

    def cover(self, coefficients: Figures, least: float) -> None:
        """Asks that a weighted sum of what is taken reach so much: a set that was found not to be enough."""
        self._covers.append((coefficients, least))

    def valid_rows(self) -> tuple[Figures, Figures]:
        """The rows so far as saves (R, n) and how much they must come to (R), in seconds, with nothing in addition, and
        with what two would take twice."""
        count = len(self.candidates)
        saves = np.array([row.saves[:count] for row in self._rows]).reshape(-1, count)
        return saves, np.array([row.whole - self.allowed for row in self._rows])

    def separate(self, taken: Figures) -> int:
        """Takes in rows that this choice breaks, the worst first; how many."""
        rows, kinds = self.rows, self.relevant
        if not len(kinds):
            return 0
        even, full = rows.even_at(kinds, taken), rows.full(taken)
        over = even + self.slack[kinds] - self.allowed
        found: list[tuple[float, Row]] = []
        for k in np.flatnonzero(over > BROKEN * self.allowed):
            found.append((float(over[k]), rows.work(int(kinds[k]))))
        near = np.flatnonzero(even + self.slack[kinds] > 0.75 * self.allowed) if rows.threads > 1 else np.zeros(0, int)
        near = near[np.argsort(-over[near], kind="stable")][: 2 * AT_ONCE]
        for k in near:
            found += self._broken(rows.closing(int(kinds[k])), full)
        found += self._chains(taken, full)
        found.sort(key=lambda each: -each[0])
        return sum(self.add(row) for _, row in found[: 3 * AT_ONCE])

    def _broken(self, rows: Sequence[Row], full: Figures) -> list[tuple[float, Row]]:
        """Those of some rows that are broken with so much taken (see `Rows.full`), and by how much (seconds)."""
        over = ((row.whole - float(row.saves @ full) + self.slack[row.kind] - self.allowed, row) for row in rows)
        return [each for each in over if each[0] > BROKEN * self.allowed]

    def _chains(self, taken: Figures, full: Figures) -> list[tuple[float, Row]]:
        """The longest chain of each kind of moment, where it is too long with so much of each candidate taken."""
        rows = self.rows
        found: list[tuple[float, Row]] = []
        if rows.threads == 1:
            return found
        cost = rows.costs_at(self.relevant, taken)
        longest_of = chains(rows.of.planned.tasks, cost).tolist()
        for kind, row, longest in zip(self.relevant.tolist(), cost, longest_of, strict=True):
            if longest + self.slack[kind] > 0.8 * self.allowed:
                found += self._broken(rows.chain(kind, row), full)
        return found

    def asked(self) -> tuple[Figures, Figures]:
        """All rows so far, with what is asked in addition, and covers: saves (R, n + P), and what they come to (R)."""
        saves = [row.saves for row in self._rows]
        saves += [np.append(coefficients, np.zeros(self._pairs)) for coefficients, _ in self._covers]
        needed = [row.whole - self.allowed + self.slack[row.kind] for row in self._rows]
        needed += [least for _, least in self._covers]
        return np.array(saves).reshape(-1, len(self.candidates) + self._pairs), np.array(needed)

    def _asked_of(self, used: NDArray[np.bool_] | None = None) -> tuple[csr_matrix, Figures]:
        """Everything that is asked, or those of the rows that are `used`: a matrix, and what it must not exceed."""
        from scipy.sparse import csr_matrix, hstack, vstack

        saves, needed = self.asked()
        if used is not None:
            saves, needed = saves[used], needed[used]
        if not len(needed):
            return self._fixed
        # Rows by their largest figure: seconds are too small for the solver's tolerances.
        scale = np.maximum(np.abs(saves).max(axis=1), 1e-12)
        rows = np.column_stack((saves, needed)) / scale[:, None]
        rows = rows[list({row.tobytes(): k for k, row in enumerate(rows)}.values())]
        count = len(self.candidates)
        parts = csr_matrix(-rows[:, :count]), csr_matrix((len(rows), len(self._once))), csr_matrix(-rows[:, count:-1])
        padded = hstack(parts)
        matrix, right = self._fixed
        return vstack([matrix, padded], format="csr"), np.concatenate((right, 1e-9 - rows[:, -1]))

    def _relaxed(self) -> Solved | None:
        """The least price that meets the rows so far without whole numbers; None if nothing does."""
        count = len(self.candidates)
        if not count:
            return self._without_any()
        saves, needed = self.asked()
        # Most rows are kept by far: those that were at the last answer come in only when they are broken.
        used = np.ones(len(needed), np.bool_)
        used[: len(self._near)] = self._near
        while True:
            found = _answered(partial(_least, self._minutes, *self._asked_of(used)))
            if found.x is None:
                return None
            left = saves @ self.rows.full(found.x[:count]) - needed
            broken = ~used & (left < -BROKEN * self.allowed)
            if not broken.any():
                break
            used |= broken
        self._near = left[: len(self._rows)] <= CLOSE * self.allowed
        reduced = found.lower.marginals + found.upper.marginals
        return Solved(found.x[:count], float(found.fun), reduced[:count])

    def most(self, amounts: Figures, minutes: float) -> float:
        """How much of something of which candidates free so much each (n) choices can free at most that meet the rows
        so far and cost so many minutes at most, without whole numbers."""
        from scipy.sparse import csr_matrix, vstack

        matrix, right = self._asked_of()
        matrix, right = vstack([matrix, csr_matrix(self._minutes[None, :])]), np.append(right, minutes + ROOM)
        wanted = np.zeros(matrix.shape[1])
        wanted[: len(amounts)] = -amounts / max(float(amounts.max(initial=0.0)), 1e-300)
        found = _answered(partial(_least, wanted, matrix, right))
        least = -float(found.fun) if found.x is not None else float(-wanted.sum())
        return (least + TOLERANCE) * float(amounts.max(initial=0.0))

    def _without_any(self) -> Solved | None:
        """What there is without candidates."""
        return Solved(np.zeros(0), 0.0) if not self._rows else None

    def _solve(self, nodes: int, gap: float, used: NDArray[np.bool_], ends: Ends) -> Solved | None:
        """The least price that meets rows in whole numbers, after so many nodes; None if nothing does, or was found."""
        from scipy.optimize import Bounds, LinearConstraint, milp  # imported here: it would lengthen every start

        count, once = len(self.candidates), len(self._once)
        if not count:
            return self._without_any()
        matrix, right = self._asked_of(used)
        constraints = [LinearConstraint(matrix, -np.inf, right)] if matrix.shape[0] else []
        kinds = np.concatenate((np.ones(count), np.zeros(once + self._pairs)))
        bounds = Bounds(*(np.append(end, np.full(once + self._pairs, float(k))) for k, end in enumerate(ends)))
        found = _answered(lambda more: milp(
            self._minutes, constraints=constraints, bounds=bounds, integrality=kinds,
            options={"node_limit": nodes, "mip_rel_gap": gap, **more},
        ))  # fmt: skip
        if found.x is None:
            return None
        bound = found.mip_dual_bound
        return Solved(found.x[:count], float(bound if bound is not None else 0.0), nodes=int(found.mip_node_count or 0))

    def relaxed(self, rounds: int = ROUNDS, lowest: NDArray[np.bool_] | None = None) -> Solved | None:
        """Solves without whole numbers, taking in what is broken until nothing is, so often at most.

        None if that is not to be had: then no plan meets the rows. What even the `lowest` choice breaks comes in first:
        as a rule nothing can mend it.
        """
        if lowest is not None:
            self.separate(lowest.astype(float))
        solved = self._relaxed()
        for _ in range(rounds):
            if solved is None or self.is_crowded or not self.separate(solved.taken):
                break
            solved = self._relaxed()
        return solved

    def _ends(self, near: Solved | None, under: float, core: float = np.inf) -> Ends:
        """How little and how much of each candidate can be in a plan no dearer than this (n, 0 or 1; minutes); of the
        `core` of a problem (E. Balas, E. Zemel, "An Algorithm for Large Zero-One Knapsack Problems", 1980): what would
        not raise the price of that answer by more than this, a share of it.

        By reduced costs: what would raise the price of an answer without whole numbers above it (G. B. Dantzig,
        D. R. Fulkerson, S. M. Johnson, "Solution of a Large-Scale Traveling-Salesman Problem", 1954).
        """
        count = len(self.candidates)
        if near is None or not len(near.reduced) or not np.isfinite(min(under, core)):
            return np.zeros(count), np.ones(count)
        room = min(max(under - near.bound, 0.0), core * near.bound) + ROOM
        return (near.reduced < -room).astype(float), (near.reduced <= room).astype(float)

    def is_slow(self, near: Solved) -> bool:
        """Whether an answer in whole numbers would take many seconds, for a bound hardly any closer: many candidates
        are taken in part, and hardly any is ruled out."""
        least, most = self._ends(near, self.under)
        return near.halves > HALVES and int((most > least).sum()) > OPEN

    def at_least(self, near: Solved) -> float:
        """What no choice undercuts that meets the rows and is cheaper than the plan in hand (minutes), by an answer to
        all of these without whole numbers.

        A choice of candidates whose prices are multiples of something costs a multiple of it; one with others costs at
        least what the first of those raises the price to.
        """
        raised, steps = np.maximum(near.reduced, 0.0), self._steps
        order = np.argsort(raised, kind="stable")
        step = np.gcd.accumulate(steps[order]) if len(order) else np.ones(1, np.int64)
        multiple = np.ceil((near.bound / ROOM - 1) / np.maximum(step, 1)) * step * ROOM
        others = np.append(near.bound + raised[order[1:]], np.inf)
        return max(near.bound, min(float(np.minimum(multiple, others).max()), self.under))

    @cached_property
    def _steps(self) -> NDArray[np.int64]:
        """What the price of each candidate, and what it pays once, are whole multiples of (n, in ROOM): 1 for what is
        none of anything."""
        prices = np.column_stack((self.prices, self._pays * self.objective[len(self.prices) :])) / ROOM
        whole = np.round(prices)
        return np.where((np.abs(prices - whole) > 0.01).any(axis=1), 1, np.gcd.reduce(whole.astype(np.int64), axis=1))

    def whole(
        self, nodes: int = NODES, gap: float = GAP, near: Solved | None = None, under: float = np.inf,
        core: float = np.inf,
    ) -> Solved | None:  # fmt: skip
        """Solves in whole numbers, with the rows so far.

        With `near`, the answer to all of these without whole numbers, what cannot be in a plan that is no dearer than
        the one in hand, or than an answer that costs so much (`under`), is left out; rows that it keeps by far come in
        only when they are broken. Only in the `core` of the problem (see `_ends`) an answer comes sooner, and proves
        nothing.
        """
        saves, needed = self.asked()
        used = np.ones(len(needed), np.bool_)
        if near is not None:
            used = saves @ self.rows.full(near.taken) - needed <= CLOSE * self.allowed
            used[len(self._rows) :] = True
        ends = self._ends(near, min(self.under, under), core)
        while True:
            solved = self._solve(nodes, gap, used, ends)
            self.is_hard = solved is None or self.price(solved.taken > 0.5) * (1 - gap) > solved.bound + ROOM
            if solved is None:
                return None
            broken = ~used & (saves @ self.rows.full(np.round(solved.taken)) < needed - BROKEN * self.allowed)
            if not broken.any():
                return solved
            used |= broken

    def rounded(self, taken: Figures) -> NDArray[np.bool_] | None:
        """A choice near an answer without whole numbers, that meets the rows so far; None if that leads to none.

        Whatever is taken wholly, then the others, more first, until the rows are met; then, dearest first, what is not
        needed for them goes.
        """
        saves, needed = self.asked()
        needed = needed - BROKEN * self.allowed
        chosen = taken > 1 - SURE
        reached = saves @ self.rows.full(chosen.astype(float))
        for number in np.argsort(-taken, kind="stable"):
            if (reached >= needed).all() or taken[number] <= 1e-9:
                break
            if not chosen[number]:
                chosen[number] = True
                if self.is_allowed(chosen):
                    reached = saves @ self.rows.full(chosen.astype(float))
                else:
                    chosen[number] = False
        if not (reached >= needed).all() or not self.is_allowed(chosen):
            return None
        for number in sorted(np.flatnonzero(chosen), key=lambda n: -self.prices[n]):
            chosen[number] = False
            without = saves @ self.rows.full(chosen.astype(float))
            chosen[number] = not (without >= needed).all()
        return np.asarray(chosen, np.bool_)


def _least(wanted: Figures, matrix: csr_matrix, right: Figures, options: dict[str, Any]) -> OptimizeResult:
    """The least of a weighted sum of variables from 0 to 1 that keep below what stands on the right."""
    from scipy.optimize import linprog  # imported here: it would lengthen every start

    return linprog(wanted, matrix, right, bounds=(0, 1), method="highs", options=options)


def _answered(ask: Callable[[dict[str, Any]], OptimizeResult]) -> OptimizeResult:
    """What a solver finds, asked with further options. Its own troubles are no answer: then it is asked once more,
    another way."""
    found = ask({"time_limit": SECONDS, "presolve": True})
    if found.x is None and found.status != INFEASIBLE:
        found = ask({"time_limit": SECONDS, "presolve": False})
    return found
