"""What no plan undercuts: rows that hold of all plans that are no dearer and keep the limit, tried on all of them."""

from __future__ import annotations

import random
from contextlib import nullcontext

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import Truth
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.costs import Among, touched
from nimbleload.core.load.load_map import load_map
from nimbleload.core.optimise.candidates import Wishes, candidates, cheaper, held, part_cost
from nimbleload.core.optimise.evaluate import Evaluator
from nimbleload.core.optimise.program import Program
from nimbleload.core.optimise.proof import among, by_price, least_either_way, least_price, mutual, tightened
from nimbleload.core.optimise.rows import Rows
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import survey, with_plan
from tests.core.optimise.test_program import choices
from tests.helpers.exhaustive import BLOCK, as_many, computer, hosted, small
from tests.helpers.often import often
from tests.helpers.sessions import bus, card, cards_for, session, track, use


def sessions(first: int, count: int):
    """Small sessions whose plugins mind each other: what is surveyed, candidates, the limit and its program."""
    for seed in range(first, first + count):
        rng = random.Random(seed)
        of, cards = small(rng)
        before = survey(hosted(of, rng) if seed % 2 else of, Plan(), cards, computer(rng, 4), 256)
        wishes = Wishes(float(before.after.load.max()) * rng.uniform(0.4, 0.9))
        found = candidates(before, wishes)
        if 2 <= len(found) <= 8 and mutual(before, held(before.case, found)):
            yield before, found, wishes, Program(before, found, wishes, Rows(before, found))


def that_hold(program: Program, evaluator: Evaluator):
    """Every choice that keeps the limit, with its price, the cheapest first."""
    bare = program.proof(program.rows)
    bare._rows.clear()
    return sorted((each for each in choices(bare) if evaluator.holds(each[0])), key=lambda each: each[1])


def test_rows_that_were_tightened_hold_of_every_plan_that_is_no_dearer_and_keeps_the_limit():
    """And leave less to what plugins do to each other than the price alone."""
    closer = 0
    for before, found, wishes, program in sessions(0, often(70)):
        evaluator = Evaluator(before, found, wishes.limit)
        known = that_hold(program, evaluator)
        if not known:
            continue
        money = known[min(len(known) - 1, 3)][1]
        proof = program.proof(by_price(before, found, money, program.rows, program.allowed))
        proof.relaxed()
        tight = tightened(before, proof, money)
        left, more = ([each.touched, each.lowers] for each in (proof.rows.among, tight.rows.among))
        assert all(a <= b * (1 + 1e-9) for a, b in zip(left, more, strict=True))
        closer += left != more
        for chosen, price in known:
            if price <= money:
                loads = load_map(evaluator.case_with(chosen))
                for kind in range(len(tight.rows.distinct)):
                    first = float(before.case.moments.times[tight.rows.moment[kind]])
                    at = max(int(np.searchsorted(loads.times, first + 1e-9, side="right")) - 1, 0)
                    takes = float(loads.load[at]) * before.deadline
                    assert tight.rows.bound_at(kind, chosen.astype(float)) <= takes * (1 + 1e-9) + 1e-12
    assert closer > 1


def test_told_apart_by_any_candidate_nothing_is_cheaper_than_is_told():
    """And by some of them more is told than without. Of each session the largest, as in a search, and another."""
    more, rng = 0, random.Random(1)
    for before, found, wishes, program in sessions(1000, often(130)):
        known = that_hold(program, Evaluator(before, found, wishes.limit))
        if not known:
            continue
        price = known[0][1]
        proof = tightened(before, program.proof(by_price(before, found, price, program.rows, program.allowed)), price)
        # As of few candidates, and as of many: there what an answer breaks comes in, too.
        with as_many() if rng.random() < 0.5 else nullcontext():
            whole = least_price(proof, proof.relaxed(), price).bound
        assert whole <= price + 1e-6 and not proof.is_hard
        for number in {int(np.argmax(program.rows.gain)), rng.randrange(len(found))}:
            halves = least_either_way(before, wishes, proof, number, price, rng.random() < 0.8)
            for taken, half in enumerate(halves):
                least = min((p for chosen, p in known if chosen[number] == bool(taken)), default=np.inf)
                assert half <= min(least, price) + 1e-6, (number, taken)
            more += min(halves) > whole + 1e-3
    assert more > 0


def test_rows_without_one_candidate_are_the_same_with_sessions_that_were_made_for_all_of_them():
    again = moving = 0
    for before, found, _, program in sessions(3000, often(60)):
        for number in range(len(found)):
            others, known = [each for n, each in enumerate(found) if n != number], program.rows.known_without(number)
            again, moving = again + len(known), moving + (number in program.rows._moving)
            price = float(program.objective.sum())
            made, anew = (by_price(before, others, price, known=each) for each in (dict(known), None))
            for name in ("by", "strip", "saved", "less", "g", "sure"):
                assert np.array_equal(getattr(made, name), getattr(anew, name)), (number, name)
    assert again > 0 and moving > 0


def test_among_very_many_the_price_without_whole_numbers_is_what_is_proven(monkeypatch):
    """In place of an answer in whole numbers, which would take minutes."""
    proven = 0
    for before, found, _, program in sessions(4000, 80):
        proof = program.proof(by_price(before, found, float(program.objective.sum()), program.rows))
        relaxed = proof.relaxed()
        if relaxed is not None and relaxed.bound > 0:
            with monkeypatch.context() as patch:
                patch.setattr(Program, "is_crowded", True)
                patch.setattr(Program, "whole", None)
                assert least_price(proof, relaxed, relaxed.bound + 1).bound == relaxed.bound
            proven += 1
    assert proven > 5


def test_effects_in_less_company_are_those_of_the_strips_before_and_after():
    tried = 0
    for before, found, _, _ in sessions(2000, 120):
        now = mutual(before, held(before.case, found))
        there = case(before.planned, before.machine, 256, Among(0.3 * now[0].now, 0.4))
        every = [effect for candidate in found for effect in candidate.effects]
        for was, effect in zip(every, cheaper(held(before.case, found), before.case, there), strict=True):
            saved = part_cost(there, was.strip, was.was) - part_cost(there, was.strip, was.now)
            assert effect.saves == pytest.approx(saved[0], abs=1e-15)
            assert effect.beside == pytest.approx(saved[1], abs=1e-15)
            tried += not np.allclose(effect.saves, was.saves, rtol=1e-6)
    assert tried > 20


def test_what_a_choice_leaves_is_what_it_does_not_take_away():
    for before, found, _, program in sessions(3000, 60):
        parts = mutual(before, held(before.case, found))
        nothing = np.zeros(len(found), np.bool_)
        assert among(before, program.rows, nothing) == Among(*(each.now for each in parts))
        for number in range(len(found)):
            one = nothing.copy()
            one[number] = True
            left = among(before, program.rows, one)
            if found[number].kind != "share":
                after = with_plan(before, Plan().with_all(found[number].decisions))
                assert left.touched == pytest.approx(touched(after, before.machine))
            assert left.touched == pytest.approx(max(parts[0].now - parts[0].freed[number], 0.0))
            assert left.lowers == pytest.approx(max(1 - parts[1].freed[number], 0.0))


def test_what_a_suspended_track_does_not_run_is_not_saved_twice():
    """One track sounds, one is silent with a meter: suspended and without its meter it saves what it costs, once."""
    of = session(track("a", "p"), track("b", "p", "meter", clips=((20, 30),)), bus("main", kind="main", output=None),
                 length=30.0)  # fmt: skip
    cards = cards_for(of, {"p": 0.3 * BLOCK, "meter": 0.1 * BLOCK})
    meter = use("meter")
    idle = Truth(linear_db=-120.0, idle=True)
    cards[meter.card_key()] = msgspec.structs.replace(card(meter, 0.1 * BLOCK), truth=idle)
    before = survey(of, Plan(), cards, Machine(1), 256)
    wishes = Wishes(0.35, kinds=("suspend", "off"))
    found = candidates(before, wishes)
    rows = Rows(before, found)
    assert sorted(each.kind for each in found) == ["off", "suspend", "suspend"]
    evaluator = Evaluator(before, found, 1.0)
    for chosen in np.array(np.meshgrid(*[(False, True)] * 3)).reshape(3, -1).T:
        loads = load_map(evaluator.case_with(chosen))
        for kind in range(len(rows.distinct)):
            at = int(np.searchsorted(loads.times, rows.seconds[kind], side="right")) - 1
            takes = float(loads.load[at]) * before.deadline
            assert rows.bound_at(kind, chosen.astype(float)) == pytest.approx(takes)
