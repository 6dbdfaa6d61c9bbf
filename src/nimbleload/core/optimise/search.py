"""The plan that gives up least, as a search: rows tightened by what the block computation finds, then swaps.

The rows of the program never ask for more than the block computation would; what that finds a moment to take beyond its
bounds (cores that wait at a block's end) is asked for in addition, moment by moment, until its answer holds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from .evaluate import FEW, Chosen, Evaluator
from .program import MANY, Program, Solved

# So many answers are tried at most, so many of them after a first one has held (few candidates, many), and swaps; and
# of answers where a plan is in hand.
TRIES, BETTER, SWAPS, AGAIN = (40, 16), (6, 2), (400, 150), 6
# So often what does not hold is excluded at the end: with so few candidates that every cheaper choice is tried then,
# with few, and with many; and only as long as the solver has come by so few nodes in all.
ONE_BY_ONE, CLOSING, NODES = 18, (120, 12, 4), 80
# Nodes and relative gap of the solver for each answer with many candidates: if that is not enough, rounding will do.
QUICK_NODES, QUICK_GAP = 1, 5e-3
# They are looked for among what would raise the price of one without whole numbers by so much at most, as a share.
CORE = 0.002
# Of these so many are asked for in a search at most: then rounding will do.
ASKED = 3
# A plan that is proven so nearly is not searched any further: with up to MANY candidates, and with more.
NEAR, NEAR_OF_MANY = 0.01, 0.04
# So many times at most it is tried what could be added to a choice that is not enough.
ADDED = 200
# So many candidates are tried at most in the place of one.
INSTEAD = 6
# So many are tried to mend one that does not hold after all.
MENDED = 60
# So many times at most it is looked at what a choice still lacks. What then costs more than so many times the best one
# in hand is not looked at any further.
FILLED, FARTHER = 40, 1.5
# With many candidates so many of the smallest steps, or so many minutes if that is less, are not worth a longer search.
STEPS, TRIFLE = 2, 0.25
MARGIN = 1e-6


def search(program: Program, evaluator: Evaluator) -> Chosen | None:
    """The cheapest choice found that keeps every moment under the limit; None if none was. With a plan in hand (see
    `Program.under`) it is not looked for as long."""
    best: Chosen | None = None
    are_many = len(program.candidates) > FEW
    least, left, relaxed = 0.0, BETTER[are_many], None
    for free, solved in _answers(program, AGAIN if np.isfinite(program.under) else TRIES[are_many]):
        if not program.slack.any():
            least, relaxed = max(least, solved.bound), free
        chosen = np.asarray(solved.taken > 0.5)
        if program.separate(solved.taken):
            continue
        if best is not None and program.price(chosen) >= (1 - min(near(program), NEAR)) * program.price(best) - MARGIN:
            break
        found = bettered(program, evaluator, chosen)
        if found is not None:
            loosen(program, evaluator, chosen)
            left -= 1
        else:
            if not tighten(program, evaluator, chosen):
                exclude(program, evaluator, chosen)
            found = with_enough(program, evaluator, chosen)
        if found is not None:
            best = found if best is None or program.price(found) < program.price(best) - MARGIN else best
            program.under = min(program.under, program.price(best))
        least = max(least, program.at_least(relaxed)) if relaxed is not None else least
        if left <= 0 or (best is not None and program.price(best) - enough(program, best) <= least + MARGIN):
            break
    if best is None and program.is_crowded:
        return with_enough(program, evaluator, np.zeros(len(program.candidates), np.bool_))
    return best


def enough(program: Program, chosen: Chosen) -> float:
    """By how much another plan must be cheaper for its being looked for any longer (minutes)."""
    price, smallest = program.price(chosen), float(program.prices.min(initial=np.inf))
    return max(near(program) * price, min(STEPS * smallest, TRIFLE)) if near(program) else 0.0


def with_enough(program: Program, evaluator: Evaluator, chosen: Chosen) -> Chosen | None:
    """A choice that is not enough, with what it lacks and without what it then does not need; None if that leads to
    nothing, or is much dearer than the plan in hand."""
    filled = filled_up(program, evaluator, chosen)
    if filled is None or program.price(filled) > FARTHER * program.under:
        return None
    return bettered(program, evaluator, filled)


def near(program: Program) -> float:
    """How near a plan must be to what no other can undercut (a fraction) so that it is not searched any further."""
    count = len(program.candidates)
    return 0.0 if count <= FEW else NEAR if count <= MANY else NEAR_OF_MANY


def _answers(program: Program, times: int) -> Iterator[tuple[Solved, Solved]]:
    """What meets the rows as they are by then, without whole numbers and in them, so often at most; it ends when
    nothing does, or there are too many."""
    for number in range(times):
        relaxed = program.relaxed()
        if relaxed is None or program.is_crowded:
            return
        solved = answer(program, relaxed, number < ASKED)
        if solved is None:
            return
        yield relaxed, solved


def answer(program: Program, relaxed: Solved, may_ask: bool = True) -> Solved | None:
    """What meets the rows so far in whole numbers, the cheapest or near it; None if there is nothing.

    With many candidates one that comes of rounding will do, if it is near enough, if the solver did not come to an end
    at once with the last one, or if it may not be asked again: what it lacks is added, what it does not need goes.
    """
    if not near(program):
        solved = program.whole(near=relaxed)
        if solved is not None:
            return solved
    chosen = program.rounded(relaxed.taken)
    price = program.price(chosen) if chosen is not None else np.inf
    far = enough(program, chosen) if chosen is not None else 0.0
    solved = None
    is_far = price - far > program.at_least(relaxed) + MARGIN
    if near(program) and is_far and (chosen is None or (may_ask and not program.is_hard)):
        solved = _soon(program, relaxed, price)
    # So few nodes may find nothing, and a solver may fail: what rounding leads to is still an answer.
    return solved if solved is not None or chosen is None else Solved(chosen.astype(float), relaxed.bound)


def _soon(program: Program, relaxed: Solved, price: float) -> Solved | None:
    """An answer in whole numbers that costs so much at most (minutes); None if none is found soon. Where that takes
    seconds it is one of the core of the problem, which proves no more than the one without whole numbers."""
    if not program.is_slow(relaxed):
        return program.whole(QUICK_NODES, QUICK_GAP, relaxed, price)
    solved = program.whole(QUICK_NODES, QUICK_GAP, relaxed, price, CORE)
    if solved is not None:
        return solved._replace(bound=relaxed.bound)
    return None if np.isfinite(price) else program.whole(QUICK_NODES, QUICK_GAP, relaxed)


def closed(program: Program, evaluator: Evaluator, best: Chosen | None) -> Chosen | None:
    """The same, as far as it can be made sure of: what no bound tells is found out one by one.

    The rows alone, without anything asked for in addition; each answer that does not hold is excluded with all that can
    be added to it. What is left when nothing cheaper meets the rows is the cheapest, unless less work makes a block
    longer (list scheduling knows such cases).
    """
    program.under = program.price(best) if best is not None else np.inf
    count, nodes = len(program.candidates), 0
    for _, solved in _answers(program, CLOSING[(count > ONE_BY_ONE) + (count > FEW)]):
        nodes += solved.nodes
        if count > ONE_BY_ONE and nodes > NODES:
            break
        chosen = np.asarray(solved.taken > 0.5)
        if program.separate(solved.taken):
            continue
        if best is not None and program.price(chosen) >= program.price(best) - MARGIN:
            break
        found = bettered(program, evaluator, chosen)
        if found is not None:
            best, program.under = found, program.price(found)
        else:
            exclude(program, evaluator, chosen)
    return best


def bettered(program: Program, evaluator: Evaluator, chosen: Chosen) -> Chosen | None:
    """A choice that holds, improved and made sure of; None if it does not hold."""
    if not (evaluator.stands(chosen) or evaluator.holds(chosen)):
        return None
    return made_sure(program, evaluator, improved(program, evaluator, chosen))


def made_sure(program: Program, evaluator: Evaluator, chosen: Chosen) -> Chosen | None:
    """A choice that holds by the whole computation, too: this one, or with the cheapest that mends it added; None if
    nothing does. Work that is a little less can make a block longer where cores take whatever is ready (list
    scheduling), so that what `stands` may be over the limit."""
    if evaluator.holds(chosen):
        return chosen
    for number in np.argsort(program.prices_with(chosen), kind="stable")[:MENDED]:
        trial = chosen.copy()
        trial[number] = True
        if not chosen[number] and program.is_allowed(trial) and evaluator.stands(trial) and evaluator.holds(trial):
            return trial
    return None


def _takes(program: Program, evaluator: Evaluator, chosen: Chosen) -> NDArray[np.float64]:
    """For each relevant kind of moment what its block takes with a choice (K, seconds)."""
    moments = evaluator.shared(chosen).case.moments
    loads = evaluator.quick(chosen) * evaluator.of.deadline
    return np.asarray(loads[moments.of[moments.all_at(program.rows.seconds[program.relevant])]])


def filled_up(program: Program, evaluator: Evaluator, chosen: Chosen) -> Chosen | None:
    """A choice with so much added that by a quick look no moment is over the limit: what takes most off those that are,
    for its price; None if nothing more can be added and some still are."""
    kept, saved = chosen.copy(), np.maximum(program.rows.taken_off(program.relevant), 0.0)
    for _ in range(FILLED):
        over = _takes(program, evaluator, kept) - program.allowed * (1 + 1e-9)
        if not (over > 0).any():
            return kept
        added = _adding(program, kept, saved, over)
        if np.array_equal(added, kept):
            return None
        kept = added
    return None


def _adding(program: Program, chosen: Chosen, saved: NDArray[np.float64], over: NDArray[np.float64]) -> Chosen:
    """A choice with what takes off all that these moments are over the limit (K, seconds), as far as it goes; what
    candidates take off is `saved` (n, K, seconds)."""
    kept, left = chosen.copy(), over.copy()
    open_, price = ~kept, program.price(kept)
    while (left > 0).any() and open_.any():
        worth = np.minimum(saved, np.maximum(left, 0.0)).sum(axis=1)
        best = int(np.argmax(np.where(open_, worth / np.maximum(program.prices_with(kept) - price, MARGIN), -1.0)))
        open_[best] = False
        if worth[best] <= 0:
            break
        kept[best] = True
        kept[best] = program.is_allowed(kept)
        if kept[best]:
            left, price = left - saved[best], program.price(kept)
    return kept


def tighten(program: Program, evaluator: Evaluator, chosen: Chosen) -> bool:
    """Asks of each moment that is over the limit for what it takes beyond its bounds; false if that changes nothing."""
    takes = _takes(program, evaluator, chosen)
    even = program.rows.even_at(program.relevant, chosen.astype(float))
    over = np.flatnonzero(takes > program.allowed * (1 + 1e-9))
    changed = False
    # Those that are a little over would be found out one by one: all that are near are asked at once.
    for k in over[np.argsort(-takes[over], kind="stable")][:24]:
        kind = int(program.relevant[k])
        bound = max(float(even[k]), program.rows.bound_at(kind, chosen.astype(float)))
        slack = takes[k] - bound + 1e-9 * program.allowed
        if slack > program.slack[kind] * (1 + 1e-9) + 1e-12:
            program.slack[kind] = slack
            program.add(program.rows.work(kind))
            for row in program.rows.closing(kind):
                program.add(row)
            changed = True
    return changed


def loosen(program: Program, evaluator: Evaluator, chosen: Chosen) -> None:
    """What was asked for in addition may have been too much: at a choice that holds, no more than it takes there."""
    takes = _takes(program, evaluator, chosen)
    for k, kind in enumerate(program.relevant.tolist()):
        if program.slack[kind] > 0:
            bound = program.rows.bound_at(kind, chosen.astype(float))
            program.slack[kind] = min(program.slack[kind], max(takes[k] - bound, 0.0)) * 0.9


def exclude(program: Program, evaluator: Evaluator, chosen: Chosen) -> None:
    """This choice, and as many as can be added to it without its holding, are not enough: one more is needed."""
    whole = chosen.copy()
    more = [int(n) for n in np.argsort(program.prices, kind="stable") if not whole[n]]
    parts = [more]
    for _ in range(ADDED):
        if not parts:
            break
        part = parts.pop()
        trial = _with_allowed(program, whole, part)
        if not (trial & ~whole).any():
            continue
        if not evaluator.stands(trial):
            whole = trial
        elif len(part) > 1:
            parts += [part[len(part) // 2 :], part[: len(part) // 2]]
    program.cover((~whole).astype(float), 1.0)


def _with_allowed(program: Program, chosen: Chosen, more: list[int]) -> Chosen:
    """A choice with these added, as far as nothing excludes them, in their order."""
    whole = chosen.copy()
    for number in more:
        whole[number] = True
        whole[number] = program.is_allowed(whole)
    return whole


def improved(program: Program, evaluator: Evaluator, chosen: Chosen) -> Chosen:
    """Freed of what it does not need, then with dear steps swapped for cheaper ones, as far as that goes."""
    kept = without_needless(program, evaluator, chosen)
    tries = SWAPS[len(program.candidates) > FEW]
    moved = True
    while moved and tries > 0:
        moved = False
        price = program.price(kept)
        for number in sorted(np.flatnonzero(kept), key=lambda n: -program.prices[n]):
            without = kept.copy()
            without[number] = False
            for other in _cheaper(program, without, price):
                tries -= 1
                if tries <= 0:
                    break
                swapped = without.copy()
                swapped[other] = True
                if evaluator.stands(swapped):
                    kept, moved = without_needless(program, evaluator, swapped), True
                    break
            if moved or tries <= 0:
                break
    return kept


def _cheaper(program: Program, without: Chosen, price: float) -> list[int]:
    """Single candidates that a choice could take and stay cheaper than a price; those that save most first, a few."""
    found: list[int] = []
    others = np.flatnonzero(~without & (program.prices_with(without) < price - MARGIN))
    for other in others[np.argsort(-program.rows.gain[others], kind="stable")]:
        trial = without.copy()
        trial[other] = True
        if program.is_allowed(trial):
            found.append(int(other))
        if len(found) == INSTEAD:
            break
    return found


def without_needless(
    program: Program, evaluator: Evaluator, chosen: Chosen, holds: Callable[[Chosen], bool] | None = None
) -> Chosen:
    """Takes back, dearest first, every candidate without which the limit still `holds`, or what is left stands."""
    holds, kept = holds or evaluator.stands, chosen.copy()
    for number in sorted(np.flatnonzero(chosen), key=lambda n: (-program.prices[n], -n)):
        kept[number] = False
        kept[number] = not holds(kept)
    return kept


def lowest(program: Program) -> Chosen:
    """For each strip what saves most, in all moments together: what is left when nothing reaches the limit."""
    chosen = np.zeros(len(program.candidates), np.bool_)
    gains = program.rows.gain_in_all
    return _with_allowed(program, chosen, [int(n) for n in np.argsort(-gains, kind="stable") if gains[n] > 0])


def as_low(program: Program, evaluator: Evaluator, chosen: Chosen) -> Chosen:
    """Takes back, dearest first, what does not make the worst moment any better; many at once where that goes."""
    loads, kept = evaluator.quick(chosen), chosen.copy()
    allowed, worst = float(loads.max(initial=0.0)) + 1e-9, np.array([int(np.argmax(loads))])
    parts = [sorted(np.flatnonzero(chosen).tolist(), key=lambda n: (-program.prices[n], -n))]
    while parts:
        part = parts.pop()
        trial = kept.copy()
        trial[part] = False
        alike = evaluator.shared(trial) is evaluator.shared(chosen)
        at_worst = float(evaluator.quick(trial, worst)[0]) if alike else 0.0
        if at_worst <= allowed and float(evaluator.quick(trial).max(initial=0.0)) <= allowed:
            kept = trial
        elif len(part) > 1:
            parts += [part[len(part) // 2 :], part[: len(part) // 2]]
    return kept


def all_cheaper(program: Program, evaluator: Evaluator, best: Chosen, most: int) -> tuple[Chosen, bool]:
    """Tries every choice that is cheaper than the best one and meets the rows; the cheapest that holds, and whether
    all were tried within so many blocks of loads."""
    count = len(program.candidates)
    price, asked = program.price(best), 0
    saves, needed = program.valid_rows()
    # What the candidates from a place on could still take off each row.
    rest = np.vstack((np.cumsum(np.maximum(saves, 0.0)[:, ::-1], axis=1)[:, ::-1].T, np.zeros(len(needed))))
    order = np.zeros(count, np.bool_)
    stack: list[tuple[int, tuple[int, ...]]] = [(0, ())]
    while stack:
        place, taken = stack.pop()
        chosen = order.copy()
        chosen[list(taken)] = True
        if program.price(chosen) >= price - MARGIN or not program.is_allowed(chosen):
            continue
        reached = saves[:, list(taken)].sum(axis=1) if len(needed) else np.zeros(0)
        if len(needed) and (reached + rest[place] < needed - 1e-12).any():
            continue
        if place == count:
            if len(needed) and (reached < needed - 1e-12).any():
                continue
            asked += 1
            if asked > most:
                return best, False
            if evaluator.holds(chosen):
                best, price = chosen, program.price(chosen)
            continue
        stack.append((place + 1, (*taken, place)))
        stack.append((place + 1, taken))
    return best, True
