"""The program over candidates: what it leaves out of its search is in no plan that it looks for."""

from __future__ import annotations

import random
from itertools import product

import numpy as np
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.optimise import program as module
from nimbleload.core.optimise.candidates import Wishes, candidates
from nimbleload.core.optimise.program import Program, Solved
from nimbleload.core.optimise.rows import Rows
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import survey
from tests.core.optimise.test_rows import tried
from tests.helpers.exhaustive import small
from tests.helpers.often import often
from tests.helpers.optima import known

EXACT = 1e-9


def choices(program: Program):
    """Every choice that nothing excludes and that meets the rows so far, with its price."""
    saves, needed = program.valid_rows()
    for each in product((False, True), repeat=len(program.candidates)):
        chosen = np.array(each)
        if program.is_allowed(chosen) and (saves @ chosen >= needed - EXACT * program.allowed).all():
            yield chosen, program.price(chosen)


@pytest.mark.parametrize("seed", range(0, 120, 2))
def test_what_is_left_out_is_in_no_plan_as_cheap_as_is_asked_for(seed):
    _, _, found, program, rows = tried(seed)
    proof = program.proof(rows)
    relaxed = proof.relaxed()
    if not 2 <= len(found) <= 9 or relaxed is None:
        return
    known = sorted(choices(proof), key=lambda each: each[1])
    assert relaxed.bound <= known[0][1] + 1e-6
    for place in sorted({0, len(known) // 4, len(known) // 2}):
        under = known[place][1]
        least, most = proof._ends(relaxed, under)
        for chosen, price in known:
            if price <= under:
                assert (least <= chosen).all() and (chosen <= most).all(), (price, under)
        solved = proof.whole(near=relaxed, under=under)
        assert solved is not None and solved.bound == pytest.approx(known[0][1], rel=1e-5, abs=1e-6)


@pytest.mark.parametrize("seed", range(0, 60, 2))
def test_in_the_core_nothing_changes_that_would_raise_the_price(seed):
    _, _, found, program, _ = tried(seed)
    relaxed = program.relaxed()
    if not 2 <= len(found) <= 9 or relaxed is None:
        return
    for core in (0.0, 0.1, 1.0):
        solved = program.whole(near=relaxed, core=core)
        far = np.abs(relaxed.reduced) > core * relaxed.bound + 1e-5
        if solved is None:
            assert core < 1.0 or far.any()
            continue
        chosen = solved.taken > 0.5
        assert (chosen[far] == (relaxed.taken[far] > 0.5)).all()
        assert any((chosen == each).all() for each, _ in choices(program))
    everything = program.whole(near=relaxed, core=np.inf)
    assert everything is not None and everything.bound == pytest.approx(min(price for _, price in choices(program)))


def test_answers_in_whole_numbers_are_slow_where_much_is_taken_in_part_and_little_is_ruled_out(monkeypatch):
    _, of, wishes, _ = next(each for each in known() if each[0] == "knapsack")
    found = candidates(of, wishes)
    program = Program(of, found, wishes, Rows(of, found))
    count = len(found)
    taken, reduced = np.zeros(count), np.full(count, 5.0)
    taken[:3], reduced[:4] = (0.5, 1.0, 0.2), 0.0
    near = Solved(taken, 1.0, reduced)
    assert near.halves == 2
    for halves, most, under, slow in ((1, 3, 3.0, True), (2, 3, 3.0, False), (1, 4, 3.0, False), (1, 4, 9.0, True)):
        monkeypatch.setattr(module, "HALVES", halves)
        monkeypatch.setattr(module, "OPEN", most)
        program.under = under
        assert program.is_slow(near) == slow


def test_something_is_left_out():
    """Else the test above would say nothing: what cannot be in a plan, and what must be."""
    left, fixed = 0, 0
    for name, of, wishes, price in known():
        if name not in ("knapsack", "multiple choice"):
            continue
        found = candidates(of, wishes)
        program = Program(of, found, wishes, Rows(of, found))
        relaxed = program.relaxed()
        assert relaxed is not None
        least, most = program._ends(relaxed, price)
        left, fixed = left + int((most == 0).sum()), fixed + int((least == 1).sum())
        solved = program.whole(near=relaxed, under=price)
        assert solved is not None and solved.bound == pytest.approx(price)
    assert left > 3 and fixed > 3


@pytest.mark.parametrize("seed", range(often(13)))
def test_a_proof_that_keeps_what_is_known_proves_the_same(seed):
    _, _, found, program, rows = tried(seed)
    program.relaxed()
    program.slack[:] = 1e-4
    program.cover(np.ones(len(found)), 1.0)
    kept = program.proof(rows)
    assert not kept.slack.any() and kept.under == np.inf and program.slack.all()
    one, other = kept.relaxed(), tried(seed)[3].proof(rows).relaxed()
    assert (one is None) == (other is None)
    if one is not None and other is not None:
        assert one.bound == pytest.approx(other.bound, rel=1e-6, abs=1e-9)


@pytest.mark.parametrize("seed", range(20))
def test_the_price_with_one_more_is_the_price_of_all(seed):
    rng, _, found, program, _ = tried(seed)
    chosen = np.array([rng.random() < 0.4 for _ in found], np.bool_)
    for number, price in enumerate(program.prices_with(chosen)):
        if not chosen[number]:
            more = chosen.copy()
            more[number] = True
            assert price == pytest.approx(program.price(more))


def test_rows_of_another_price_are_not_taken_for_the_same():
    """Where plugins mind each other the rows of a proof hold for plans of its price alone."""
    differ = 0
    for seed in range(60):
        _, _, _, program, rows = tried(seed)
        alike = rows.are_like(program.rows)
        assert alike == program.rows.are_like(rows)
        work = [Rows.work(each, kind) for kind in range(len(rows.distinct)) for each in (rows, program.rows)]
        if alike:
            for one, other in zip(work[::2], work[1::2], strict=True):
                assert one.whole == pytest.approx(other.whole) and np.allclose(one.saves, other.saves)
        differ += not alike
    assert differ


@pytest.mark.parametrize(("step", "once", "next_one"), [(0.25, 0.25, 0.5), (0.25, 0.1, 0.35), (0.3, 0.07, 0.34)])
def test_prices_add_up_in_whole_steps_so_that_the_least_is_one_of_them(step, once, next_one):
    """Prices are rounded to whole steps: then every choice is, and what is told as the least must be, too."""
    raised, with_once = 0, 0
    for seed in range(often(25)):
        of, cards = small(random.Random(seed))
        before = survey(of, Plan(), cards, Machine(2), 256)
        wishes = Wishes(0.7 * float(before.after.load.max()))
        found = candidates(before, wishes)
        proof, count = Program(before, found, wishes, Rows(before, found)), len(found)
        proof.objective = np.ceil(proof.objective / step) * step
        proof.objective[count:] = once
        proof.prices = proof.objective[:count]
        relaxed = proof.relaxed()
        if not 2 <= count <= 9 or relaxed is None:
            continue
        known = sorted(price for _, price in choices(proof))
        if len(proof.objective) > count:
            with_once, proof.under = with_once + 1, 10.0
            assert proof.at_least(Solved(np.zeros(count), 0.335, np.zeros(count))) == pytest.approx(next_one)
        for under in [share * price for price in known[:: max(len(known) // 3, 1)] for share in (0.9, 1)]:
            proof.under = under
            least = proof.at_least(relaxed)
            assert relaxed.bound <= least <= max(under, relaxed.bound) + EXACT
            assert all(price >= least - 1e-6 for price in known if price < under)
            raised += least > relaxed.bound + 1e-6
            if len(proof.objective) == count and least < under:
                assert least / step == pytest.approx(round(least / step))
    assert raised > 10 and with_once > 3


def test_prices_that_have_no_step_raise_nothing():
    _, _, found, program, rows = next(each for each in map(tried, range(60)) if len(each[2]) > 3)
    proof = program.proof(rows)
    proof.objective = proof.objective * np.sqrt(np.arange(2, len(proof.objective) + 2))
    proof.prices, proof.under = proof.objective[: len(found)], 1e3
    relaxed = proof.relaxed()
    assert relaxed is not None and proof.at_least(relaxed) == relaxed.bound


@pytest.mark.parametrize("seed", range(0, 60, 3))
def test_rows_that_were_kept_by_far_come_in_again_when_they_are_broken(seed):
    """An answer without whole numbers is that to all rows, whichever it was found with."""
    _, _, found, program, rows = tried(seed)
    proof = program.proof(rows)
    if proof.relaxed() is None or not found:
        return
    again = program.proof(rows)
    again._rows, again._known, again._near = list(proof._rows), set(proof._known), np.zeros(len(proof._rows), np.bool_)
    wanted, got = proof._relaxed(), again._relaxed()
    assert wanted is not None and got is not None
    assert got.bound == pytest.approx(wanted.bound, abs=1e-6)
    saves, needed = again.asked()
    assert (saves @ rows.full(got.taken) >= needed - 1e-6 * again.allowed).all()
