"""The program over candidates: what it leaves out of its search is in no plan that it looks for."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest

from nimbleload.core.optimise.candidates import candidates
from nimbleload.core.optimise.program import Program
from nimbleload.core.optimise.rows import Rows
from tests.core.optimise.test_rows import tried
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


@pytest.mark.parametrize("seed", range(40))
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
