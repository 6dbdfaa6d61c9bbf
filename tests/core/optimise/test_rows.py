"""The rows of the program: no plan makes a block shorter than a valid row says; and where it is as long."""

from __future__ import annotations

import itertools
import random

import msgspec
import numpy as np
import pytest
from scipy.optimize import linprog

from nimbleload.core.cards.card import Truth
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.load_map import load_map
from nimbleload.core.optimise.candidates import Wishes, candidates
from nimbleload.core.optimise.evaluate import Evaluator
from nimbleload.core.optimise.program import Program
from nimbleload.core.optimise.proof import by_price
from nimbleload.core.optimise.rows import BUS, Rows
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.survey import survey
from tests.helpers.exhaustive import BLOCK, computer, hosted, small
from tests.helpers.often import often
from tests.helpers.sessions import bus, cards_for, session, track


def tried(seed: int):
    """A small session in some host, its candidates, and valid rows for plans of any price."""
    rng = random.Random(seed)
    of, cards = small(rng)
    of = hosted(of, rng) if seed % 2 else of
    before = survey(of, Plan(), cards, computer(rng, 4), 256)
    wishes = Wishes(float(before.after.load.max()) * 0.5)
    found = candidates(before, wishes)
    program = Program(before, found, wishes, Rows(before, found))
    return rng, before, found, program, by_price(before, found, float(program.objective.sum()), program.rows)


def random_choice(rng: random.Random, program: Program):
    """A choice whose candidates do not exclude each other."""
    chosen = np.zeros(len(program.candidates), np.bool_)
    for number in rng.sample(range(len(chosen)), len(chosen)):
        if rng.random() < 0.5:
            chosen[number] = True
            chosen[number] = program.is_allowed(chosen)
    return chosen


# Those at the end were found by longer runs: what changes a tail changes what suspending saves, a bus takes the place
# of the later part of a strip alone, an instrument rings on with as many notes as it never plays, and what lasts for
# less than a block counts to its neighbour.
@pytest.mark.parametrize("seed", [*range(often(20)), 102, 106, 135, 144, 151, 206, 225, 237, 268, 70, 1174, 3888])
def test_no_plan_makes_a_block_shorter_than_a_valid_row(seed):
    rng, of, found, program, rows = tried(seed)
    if not found:
        return
    evaluator = Evaluator(of, found, 1.0)
    for _ in range(25):
        chosen = random_choice(rng, program)
        loads = load_map(evaluator.case_with(chosen))
        taken = chosen.astype(float)
        for kind in range(len(rows.distinct)):
            first = float(of.case.moments.times[rows.moment[kind]])
            at = int(np.searchsorted(loads.times, first + 1e-9, side="right")) - 1
            takes = float(loads.load[max(at, 0)]) * of.deadline
            assert rows.bound_at(kind, taken) <= takes * (1 + 1e-9) + 1e-12, (kind, chosen.tolist())


@pytest.mark.parametrize("seed", [*range(30), 323])
def test_the_quick_look_is_the_load_or_a_little_above(seed):
    rng, of, found, program, _ = tried(seed)
    evaluator = Evaluator(of, found, 1.0)
    for _ in range(8):
        chosen = random_choice(rng, program)
        quick, true = float(evaluator.quick(chosen).max(initial=0.0)), evaluator.worst(chosen)
        if evaluator._is_rough:
            assert quick >= true * (1 - 1e-9)
        else:
            assert quick == pytest.approx(true)
        assert Evaluator(of, found, quick)._quickly(chosen)
        assert quick <= 0 or not Evaluator(of, found, 0.99 * quick)._quickly(chosen)


@pytest.mark.parametrize("seed", range(often(13)))
def test_the_quick_look_is_the_same_whatever_was_looked_at_before(seed):
    rng, of, found, program, _ = tried(seed)
    evaluator = Evaluator(of, found, 1.0)
    for _ in range(12):
        chosen = random_choice(rng, program)
        kinds = None
        if rng.random() < 0.5:
            count = len(evaluator.shared(chosen).case.moments.distinct)
            kinds = np.array(sorted(rng.sample(range(count), rng.randint(1, min(count, 2)))))
        assert np.array_equal(evaluator.quick(chosen, kinds), Evaluator(of, found, 1.0).quick(chosen, kinds))


@pytest.mark.parametrize("seed", range(0, 40, 2))
def test_what_is_saved_at_most_for_a_price_is_the_linear_programs_answer(seed):
    rng, _, found, _, rows = tried(seed)
    prices = np.array([each.price for each in found])
    saved = np.maximum(rows._summed(rows.saved), 0.0)
    for share in (0.0, rng.random(), rng.random(), 1.0, 1.3):
        money = share * float(prices.sum())
        most = rows._most_saved(saved, money)
        for kind in range(saved.shape[1] if found else 0):
            answer = linprog(-saved[:, kind], A_ub=prices[None], b_ub=[money], bounds=(0, 1))
            assert most[kind] == pytest.approx(-answer.fun, abs=1e-12)


def test_effects_are_added_up_candidate_by_candidate_whichever_have_any():
    *_, rows = tried(3)
    rows.candidates = rows.candidates + rows.candidates
    for by in ([1, 1, 4], [0, 2, 2, 2], [], [1]):
        rows.by = np.array(by, np.int64)
        effects = np.arange(2.0 * len(by)).reshape(-1, 2) + 1
        wanted = np.zeros((len(rows.candidates), 2))
        np.add.at(wanted, rows.by, effects)
        assert np.array_equal(rows._summed(effects), wanted)


@pytest.mark.parametrize("seed", range(0, 30, 3))
def test_half_of_a_candidate_takes_half_off_what_strips_cost(seed):
    *_, found, _, rows = tried(seed)
    kinds = np.arange(len(rows.distinct))
    for number in range(len(found)):
        none, half, one = (rows.costs_at(kinds, share * (np.arange(len(found)) == number)) for share in (0.0, 0.5, 1.0))
        stays = one > 0
        assert half[stays] == pytest.approx(((none + one) / 2)[stays], rel=1e-9, abs=1e-15)


def test_only_what_is_shared_brings_anything():
    brought = 0
    for seed in range(60):
        *_, found, program, _ = tried(seed)
        of = program.of
        alone = [each for each in found if each.kind == "freeze"]
        assert Rows(of, alone).brought() == pytest.approx(0.0, abs=1e-15)
        brought += bool((Rows(of, [each for each in found if each.kind == "share"]).brought() > 0).any())
    assert brought > 1


def test_what_cores_lose_to_each_other_counts_by_their_share_of_the_work():
    """Of a plan that costs nothing: as it is now."""
    counted = 0
    for seed in range(60):
        _, before, found, _, _ = tried(seed)
        found = [each for each in found if each.kind == "freeze" and each.price > 0]
        rows = Rows(before, found, money=0.0)
        if rows.threads == 1 or not rows._counts_beside:
            continue
        share = rows.beside.sum(axis=1) / np.maximum(rows.cost.sum(axis=1), 1e-300)
        assert rows.g == pytest.approx(np.clip(1 - share / (rows.threads - 1), 0, 1), abs=1e-9)
        counted += bool((share > 0.01).any())
    assert counted > 5


def test_what_costs_more_at_times_counts_where_nothing_else_may_take_the_whole_strip():
    """A lighter setting that costs more in silence, say; beside a freeze of its strip it is left out."""
    alone = beside = 0
    for seed in range(0, often(120), 2):
        _, before, found, _, _ = tried(seed)
        lighter = [each for each in found if each.kind == "lighten"]
        states, effects = before.case.moments.distinct, [effect for each in lighter for effect in each.effects]
        dearer = {each.strip for each in effects if each.saves[states[:, each.strip]].min() < -1e-9}
        if not dearer:
            continue
        rows = Rows(before, lighter)
        alone += any((rows.saved[rows.strip == strip] < 0).any() for strip in dearer)
        both = Rows(before, found)
        whole = {s for s, n in zip(both.strip, both.by, strict=True) if found[n].decision.use is None and s != BUS}
        for strip in dearer & whole:
            part = [e for e, n in enumerate(both.by) if found[n].kind == "lighten" and both.strip[e] == strip]
            assert (both.saved[part] >= 0).all()
            beside += 1
    assert alone > 0 and beside > 0


def test_without_decisions_the_rows_are_the_bounds_of_the_load():
    _, of, found, _, rows = tried(2)
    nothing = np.zeros(len(found))
    kinds = np.arange(len(rows.distinct))
    even = rows.even_at(kinds, nothing) / of.deadline
    assert even[of.case.moments.of] == pytest.approx(of.after.spread)


def test_on_a_row_of_cores_before_a_bus_the_closing_row_is_the_whole_block():
    of = session(*(track(f"t{k}", "p", output="b") for k in range(8)), bus("b", "q"),
                 bus("main", "m", kind="main", output=None))  # fmt: skip
    cards = cards_for(of, {"p": 1e-3, "q": 5e-4, "m": 2.5e-4})
    before = survey(of, Plan(), cards, Machine(4), 256)
    found = candidates(before, Wishes())
    rows = Rows(before, found)
    taken = np.zeros(len(found))
    assert rows.bound_at(0, taken) == pytest.approx(2e-3 + 5e-4 + 2.5e-4)
    assert rows.even_at(np.array([0]), taken)[0] == pytest.approx(8.75e-3 / 4)


def test_a_bound_counts_in_full_under_a_plan_that_takes_away_what_others_slow_down():
    """A third of the work takes nearly twice as long while the others compute; with it frozen nothing does."""
    of = session(*(track(f"t{k}", "p", output="b") for k in range(8)), track("w", "w"), bus("b", "q"),
                 bus("main", "m", kind="main", output=None))  # fmt: skip
    cards = cards_for(of, {"p": 1e-3, "w": 4e-3, "q": 5e-4, "m": 2.5e-4})
    cards = {
        key: msgspec.structs.replace(each, upkeep=Upkeep(0, 0, 0.0, 0.0, 0.0, 1.9 if key.identifier == "w" else 1.0))
        for key, each in cards.items()
    }
    before = survey(of, Plan(), cards, Machine(4), 256)
    found = candidates(before, Wishes(kinds=("freeze",)))
    frozen = np.array([each.decision.strip == "w" for each in found], float)
    rows = by_price(before, found, sum(each.price for each in found), allowed=3e-3)
    assert frozen.sum() == 1 and rows.g[0] < 0.8
    assert rows.bound_at(0, frozen) == pytest.approx(2e-3 + 5e-4 + 2.5e-4)


@pytest.mark.parametrize("tail", [0.0, 0.3])
def test_on_one_core_what_is_suspended_and_gives_plugins_away_is_told_to_the_sample(tail):
    """Both take the same away; what is left of a suspended strip is the host's own time, less that for each plugin."""
    host = Host(0, 0.01 * BLOCK, 0.002 * BLOCK)
    short, late = track("a", "p", "q", "r", clips=((0, 5),)), track("c", clips=((5.7, 10),))
    of = session(short, track("b", "s", "r"), late, host=host)
    cards = cards_for(of, {"p": 0.2 * BLOCK, "q": 0.3 * BLOCK, "r": 0.05 * BLOCK, "s": 0.5 * BLOCK}, tail=tail)
    cards = {
        key: msgspec.structs.replace(each, truth=Truth(
            idle=key.identifier in "pq", linear_db=-120.0 if key.identifier == "r" else None)
        )
        for key, each in cards.items()
    }  # fmt: skip
    before = survey(of, Plan(), cards, Machine(1), 256)
    wishes = Wishes(kinds=("off", "suspend", "share"))
    found = candidates(before, wishes)
    assert sorted(each.kind for each in found) == ["off", "off", "share", "suspend", "suspend"]
    rows, evaluator = Rows(before, found), Evaluator(before, found, 1.0)
    program = Program(before, found, wishes, rows)
    assert not evaluator._is_rough
    kinds = np.arange(len(rows.distinct))
    for chosen in itertools.product((False, True), repeat=len(found)):
        taken = np.array(chosen)
        if not program.is_allowed(taken):
            continue
        even, moments = rows.even_at(kinds, taken.astype(float)) / before.deadline, evaluator.shared(taken).case.moments
        takes = evaluator.quick(taken)[moments.of[moments.all_at(rows.seconds)]]
        assert (takes >= even - 1e-9).all()
        if not tail:
            assert takes == pytest.approx(even)
        # With a tail that is given away it is silent sooner: no less than the host's own time for it is left.
        elif {"share", "suspend"} <= {each.kind for each, is_taken in zip(found, chosen, strict=True) if is_taken}:
            assert takes == pytest.approx(even, abs=0.013)
