"""The suggested plan: against trying all of them on small sessions, minimal by the block computation, and honest."""

from __future__ import annotations

import random
from types import SimpleNamespace

import msgspec
import numpy as np
import pytest
from scipy import optimize

from nimbleload.core.cards.card import Company, CostCard, Null
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.decisions.apply import told_as
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.decisions.price import PRESETS
from nimbleload.core.optimise import program
from nimbleload.core.optimise import search as module
from nimbleload.core.optimise.alternatives import alternatives, first_alike
from nimbleload.core.optimise.candidates import Wishes, candidates
from nimbleload.core.optimise.evaluate import FEW, Evaluator
from nimbleload.core.optimise.program import MANY, Program, Solved
from nimbleload.core.optimise.rows import Rows
from nimbleload.core.optimise.search import (
    CORE,
    NEAR,
    NEAR_OF_MANY,
    ONE_BY_ONE,
    QUICK_GAP,
    answer,
    near,
    search,
)
from nimbleload.core.optimise.steps import steps_of, worst_block
from nimbleload.core.optimise.suggest import _cheaper, _other_way, suggest
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.session.plugins import Variant
from nimbleload.core.session.session import Section
from nimbleload.core.survey import survey
from nimbleload.core.told.steps import in_the_way, step_words, why
from nimbleload.shell.common import demo_saved
from tests.helpers.exhaustive import BLOCK, as_many, cheapest, computer, hosted, one_by_one, small, worst
from tests.helpers.few_tracks import few_tracks
from tests.helpers.often import often
from tests.helpers.optima import known
from tests.helpers.sessions import RATE, bus, card, cards_for, session, setting, track


def random_wish(seed: int):
    """A small session in one of many hosts, and a limit below its load that may be out of reach."""
    rng = random.Random(seed)
    of, cards = small(rng)
    if seed % 2:
        of = hosted(of, rng)
    before = survey(of, Plan(), cards, computer(rng, 3), 256)
    limit = float(before.after.load.max()) * rng.uniform(0.35, 1.0)
    return before, Wishes(limit, rng.choice(list(PRESETS.values())))


# Of the first 150 those with so few decisions that all sets of them can be tried here; bench.exhaustive tries more.
TRIED = 10
SEEDS = (
    1, 2, 3, 7, 11, 13, 14, 15, 18, 19, 21, 22, 25, 31, 32, 37, 39, 41, 43, 45, 46, 49, 51, 52, 54, 55, 57, 59, 61, 63,
    65, 66, 67, 70, 71, 72, 73, 75, 76, 77, 78, 79, 82, 85, 86, 87, 89, 91, 93, 97, 100, 101, 102, 104, 105, 107, 108,
    109, 110, 111, 113, 114, 115, 117, 119, 121, 123, 124, 125, 127, 128, 131, 132, 134, 137, 138, 140, 143, 146, 148,
)  # fmt: skip


@pytest.mark.parametrize("seed", [seed for seed in SEEDS if seed < 90][: often(17)])
def test_on_small_sessions_no_set_of_decisions_is_cheaper(seed):
    """With the last trial of all cheaper choices, and as in large sessions without it."""
    before, wishes = random_wish(seed)
    found = candidates(before, wishes)
    assert len(found) <= TRIED, "other seeds are wanted"
    best = cheapest(before, found, wishes)
    for tried in (ONE_BY_ONE, 0):
        made = suggest(before, wishes, small=tried)
        assert made.reached == (best is not None)
        assert made.load == pytest.approx(worst(before.session, made.plan, before.planned.cards, before.machine))
        if best is not None:
            assert made.load <= wishes.limit + 1e-9
            assert made.price == pytest.approx(best)
            assert made.least <= best + 1e-6


@pytest.mark.parametrize("slow", [False, True])
@pytest.mark.parametrize("seed", [seed for seed in SEEDS if seed >= 90][: often(10)])
def test_what_is_given_up_for_speed_with_many_candidates_is_told(seed, slow, monkeypatch):
    """Also where answers in whole numbers take long, so that they are looked for in the core of the problem alone."""
    if slow:
        monkeypatch.setattr(program, "HALVES", -1)
        monkeypatch.setattr(program, "OPEN", -1)
    before, wishes = random_wish(seed)
    found = candidates(before, wishes)
    assert len(found) <= TRIED, "other seeds are wanted"
    best = cheapest(before, found, wishes)
    with as_many():
        made = suggest(before, wishes)
    assert made.reached == (best is not None)
    if best is not None:
        assert made.load <= wishes.limit + 1e-9
        assert made.least <= best + 1e-6 <= made.price + 2e-6


@pytest.mark.parametrize(("crowded", "share"), [(False, 0.98), (True, 0.9)])
def test_of_many_small_steps_no_more_are_taken_than_one_after_the_other_would_be(monkeypatch, crowded, share):
    """Sixty-six tracks that cost as much in silence, and a limit that a few of them mend. What a first answer lacked
    was never added to it: where there were many rows the plan then came to ten times the price."""
    of = session(*(track(f"t{k}", f"p{k % 7}", clips=((0.15 * k, 0.15 * k + 0.2),)) for k in range(66)))
    cards = cards_for(of, {f"p{k}": (0.02 + 0.003 * k) * BLOCK for k in range(7)}, tail=0.0)
    before = survey(of, Plan(), cards, Machine(3), 256)
    if crowded:
        monkeypatch.setattr(program, "CROWDED", 3)
        monkeypatch.setattr(program, "MANY", 3)
    wishes = Wishes(share * float(before.after.load.max()), kinds=("suspend",))
    found = candidates(before, wishes)
    assert len(found) > FEW
    made = suggest(before, wishes)
    assert made.reached and made.load <= wishes.limit + 1e-9
    assert made.price <= one_by_one(before, found, wishes) + 0.1 + 1e-9


def test_a_plugin_that_is_switched_off_lets_its_track_fall_silent_and_be_suspended():
    """Together they save more than either alone: found by `bench.exhaustive`, which proved too high a least price."""
    rng = random.Random(91313)
    of, cards = small(rng)
    before = survey(hosted(of, rng), Plan(), cards, computer(rng, 3), 256)
    wishes = Wishes(float(before.after.load.max()) * rng.uniform(0.35, 1.0), rng.choice(list(PRESETS.values())))
    made = suggest(before, wishes, small=0)
    assert {d.kind for d in made.plan.decisions} == {"off", "suspend", "freeze"}
    assert made.price == pytest.approx(1.0844658) and made.least <= made.price + 1e-9


@pytest.mark.parametrize("seed", range(often(12)))
def test_no_single_step_can_be_left_out(seed):
    before, wishes = random_wish(1000 + seed)
    made = suggest(before, wishes)
    if not made.reached:
        return
    for decision in made.plan.decisions:
        if decision.kind in ("share",):
            continue
        rest = Plan(tuple(d for d in made.plan.decisions if d != decision))
        assert worst(before.session, rest, before.planned.cards, before.machine) > wishes.limit


def test_the_more_is_frozen_the_less_the_others_cost_each_other_and_no_step_is_left_over():
    """A look at each strip by itself does not see that."""
    of = session(*(track(f"t{k}", f"p{k}") for k in range(12)))
    cards = cards_for(of, {f"p{k}": (0.04 + 0.002 * k) * BLOCK for k in range(12)})
    company = Company(RATE, 256, (0, 1 << 20, 1 << 22), (1.0, 1.5, 2.5))
    minding = {"upkeep": Upkeep(0, 1 << 17, 0.0, 0.0, 0.0, 1.0), "company": (company,)}
    cards = {key: msgspec.structs.replace(each, **minding) for key, each in cards.items()}
    before = survey(of, Plan(), cards, Machine(1), 256)
    wishes = Wishes(0.5 * float(before.after.load.max()), kinds=("freeze",))
    with as_many():
        made = suggest(before, wishes)
    assert made.reached and len(made.plan.decisions) > 2
    for decision in made.plan.decisions:
        rest = Plan(tuple(d for d in made.plan.decisions if d != decision))
        assert worst(before.session, rest, cards, before.machine) > wishes.limit


def test_what_is_pinned_stays_and_kinds_that_are_not_allowed_are_not_taken():
    of = session(track("a", "p", "p"), track("b", "p"), track("c", "p"))
    cards = cards_for(of, {"p": 0.3 * BLOCK})
    before = survey(of, Plan(), cards, Machine(1), 256)
    made = suggest(before, Wishes(0.8, pinned=frozenset({"a"})))
    assert {d.strip for d in made.plan.decisions} == {"b", "c"}
    none = suggest(before, Wishes(0.8, kinds=("suspend",)))
    assert not none.reached
    assert none.load == pytest.approx(1.2)


def test_when_nothing_reaches_the_limit_it_says_what_comes_closest_and_why():
    of = session(track("a", "p", armed=True), track("b", "p", output="c"), bus("c", "p"))
    cards = cards_for(of, {"p": 0.5 * BLOCK})
    made = suggest(survey(of, Plan(), cards, Machine(1), 256), Wishes(0.5))
    assert not made.reached
    assert made.load == pytest.approx(1.0)
    assert [d.strip for d in made.plan.decisions if d.kind == "freeze"] == ["b"]
    assert made.impossible
    told = in_the_way(survey(of, Plan(), cards, Machine(1), 256), made)
    assert told.startswith("100 % is the lowest. No plan of these kinds can reach it: what is left still needs 100 %")
    assert "a stays as it is." in told


def test_what_saves_as_much_in_one_moment_but_in_no_other_is_not_taken_for_the_most():
    """Suspending saves in silence what freezing saves always: with many tracks the lowest load is that of freezing."""
    of = session(*(track(f"t{k}", "p", clips=((0.0, 5.0), (5.0, 10.0))[k % 2 : k % 2 + 1]) for k in range(FEW)))
    before = survey(of, Plan(), cards_for(of, {"p": 0.1 * BLOCK}), Machine(1), 256)
    made = suggest(before, Wishes(0.05))
    assert made.reached and made.load <= 0.05
    assert {d.kind for d in made.plan.decisions} == {"freeze"} and len(made.plan.decisions) == FEW
    assert made.least <= made.price <= 1.02 * made.least


def test_where_hardly_anything_reaches_the_limit_a_plan_is_found_at_once_and_told_how_near_it_is(monkeypatch):
    """With many rows the solver would take minutes for each answer in whole numbers; it is not asked for any."""
    of = session(*(track(f"t{k}", "p", "q", clips=((0.1 * k, 10.0 - 0.1 * k),)) for k in range(40)))
    before = survey(of, Plan(), cards_for(of, {"p": 0.1 * BLOCK, "q": 0.05 * BLOCK}), Machine(1), 256)
    exact = suggest(before, Wishes(0.3))
    monkeypatch.setattr(program, "CROWDED", 3)
    monkeypatch.setattr(program, "MANY", 3)
    monkeypatch.setattr(program.Program, "whole", lambda *_: pytest.fail("asked in whole numbers"))
    made = suggest(before, Wishes(0.3))
    assert made.reached and made.load <= 0.3 + 1e-9
    assert made.least <= exact.price <= made.price < 1.3 * exact.price
    assert 0 <= made.gap < 0.3


@pytest.mark.parametrize("crowded", [False, True])
def test_what_is_suggested_holds_by_the_whole_computation(monkeypatch, crowded):
    """Less work can make a block longer (list scheduling): what the quick look takes for enough may not be."""
    of = session(*(track(f"t{k}", "p", "q", clips=((0.4 * k, 10.0 - 0.4 * k),)) for k in range(9)))
    before = survey(of, Plan(), cards_for(of, {"p": 0.4 * BLOCK, "q": 0.2 * BLOCK}), Machine(4), 256)
    quick = Evaluator.quick
    monkeypatch.setattr(Evaluator, "quick", lambda self, *of: 0.8 * quick(self, *of))
    if crowded:
        monkeypatch.setattr(program, "CROWDED", 3)
        monkeypatch.setattr(program, "MANY", 3)
    for limit in (0.3, 0.5, 0.8):
        with as_many():
            made = suggest(before, Wishes(limit))
        assert made.reached and made.load <= limit + 1e-9


def test_decisions_taken_by_hand_stay_and_are_not_paid_for_again():
    of = session(*(track(name, "p") for name in "abc"))
    cards = cards_for(of, {"p": 0.4 * BLOCK})
    by_hand = Plan((Decision("freeze", "a"),))
    made = suggest(survey(of, by_hand, cards, Machine(1), 256), Wishes(0.5))
    assert made.plan.decisions[0] == by_hand.decisions[0]
    assert len(made.steps) == 1
    assert made.price == pytest.approx(made.steps[0].price.minutes)


def test_a_lighter_setting_is_taken_where_it_is_enough():
    of = session(track("a", "p"), track("b", "q"))
    key = of.strip("a").inserts[0].card_key()
    variant = Variant(key, "quality off", setting(quality=0))
    of = msgspec.structs.replace(of, variants=(variant,))
    lighter = variant.applied(of.strip("a").inserts[0])
    light = msgspec.structs.replace(card(lighter, 0.1 * BLOCK), nulls=(Null(key.setting, key.voices, -70.0),))
    cards = cards_for(of, {"p": 0.6 * BLOCK, "q": 0.5 * BLOCK}) | {lighter.card_key(): light}
    found = survey(of, Plan().stand(["a", "b"], "in work"), cards, Machine(1), 256)
    made = suggest(found, Wishes(0.7))
    assert made.plan.decisions == (Decision("lighten", "a", "a/p", variant="quality off"),)
    assert made.load == pytest.approx(0.6)
    said = "Lighten p on a: quality off, 50 % of one core: worst 110 % → 60 %"
    (step,) = steps_of(found, found.plan, [each.decisions for each in made.steps], Wishes(0.7).terms(found))
    assert step_words(found, step) == said and step.price == made.steps[0].price


def test_suspending_counts_only_where_there_is_silence():
    of = session(track("a", "p", clips=((0, 5),)), track("b", "p", clips=((5, 10),)))
    cards = cards_for(of, {"p": 0.6 * BLOCK})
    made = suggest(survey(of, Plan(), cards, Machine(1), 256), Wishes(0.7))
    assert {(d.kind, d.strip) for d in made.plan.decisions} == {("suspend", "a"), ("suspend", "b")}


def test_the_alternatives_keep_their_promise():
    rng = random.Random(5)
    of = session(*(track(f"t{k}", "p", *(["q"] * rng.randint(0, 2))) for k in range(6)), host=Host(0, 1e-6))
    cards = cards_for(of, {"p": 0.27 * BLOCK, "q": 0.13 * BLOCK})
    found = alternatives(survey(of, Plan(), cards, Machine(2), 256), Wishes(0.8, PRESETS["balanced"]))
    assert set(found) == {"least given up", "fewest steps", "most headroom"}
    assert found["most headroom"].found.load <= 0.7 + 1e-9
    least = found["least given up"]
    assert least.found.price <= found["most headroom"].found.price
    assert len(found["fewest steps"].steps) <= len(least.steps)
    assert least.found.price <= found["fewest steps"].found.price + 1e-9
    for each in found.values():
        # Where the steps end is where the plan leads, and what they cost is what it does.
        assert each.steps[-1].load == pytest.approx(each.found.load)
        assert sum(step.price.minutes for step in each.steps) == pytest.approx(each.found.price)
        assert [(step.decisions, step.price) for step in each.steps] == [tuple(taken) for taken in each.found.steps]
    most = found["most headroom"]
    again, lower = most.found.plan.decisions[::-1], most.found._replace(reached=False)
    found["again"] = most._replace(found=most.found._replace(plan=Plan(again)))
    found["lower"] = most._replace(found=lower)
    assert first_alike(found, "again") == first_alike(found, "most headroom") == "most headroom"
    assert first_alike(found, "lower") == "lower"


def test_a_plugin_without_a_figure_saves_nothing():
    of = session(track("a", "p"), track("b", "unknown"))
    cards = cards_for(of, {"p": 1.2 * BLOCK})
    assert isinstance(next(iter(cards.values())), CostCard)
    made = suggest(survey(of, Plan(), cards, Machine(1), 256), Wishes(0.8))
    assert [d.strip for d in made.plan.decisions] == ["a"]


@pytest.mark.parametrize(
    ("decision", "words"),
    [
        (Decision("freeze", "a", through=-1), "Freeze the instrument of a"),
        (Decision("freeze", "a", through=0), "Freeze a through insert 1"),
        (Decision("freeze", "a"), "Freeze a"),
        (Decision("suspend", "a"), "Suspend a while it is silent"),
        (Decision("off", "a", "a/p"), "Switch off p on a"),
        (Decision("off", "a"), "Switch off a"),
        (Decision("disarm", "a"), "Disarm a"),
    ],
)
def test_decisions_are_told_in_words(decision, words):
    assert told_as(session(track("a", "p", "q")), decision) == words


def test_each_step_says_what_speaks_for_it():
    """What the tracks take of the worst block, where that is, and how much of the piece they are heard in."""
    of = session(
        track("a", "p", clips=((0, 4),)), track("b", "q", clips=((2, 10),)), sections=(Section("Storm", 1.0),)
    )  # fmt: skip
    cards = cards_for(of, {"p": 0.6 * BLOCK, "q": 0.5 * BLOCK}, silent=0.0, tail=0.0)
    found = survey(of, Plan(), cards, Machine(1), 256)
    assert why(found, worst_block(found), [Decision("freeze", "a")]) == (
        "a takes 60 % of one core in the worst block in Storm (0:03); heard in 40 % of the piece"
    )
    both = [Decision("share", "a", "a/p", into="x"), Decision("share", "b", "b/q", into="x")]
    assert why(found, worst_block(found), both).startswith("the 2 take 110 % of one core")


@pytest.mark.parametrize("seed", range(6))
def test_a_solver_that_fails_in_whole_numbers_still_leads_to_a_plan_near_the_cheapest(seed, monkeypatch):
    """As it does now and then on a busy computer: no answer, and no word that there was none to be had."""
    before, wishes = random_wish(2 * seed)
    honest = suggest(before, wishes)

    def failing(objective, integrality, **others):
        found = optimize_milp(objective, integrality=integrality, **others)
        if integrality.any():
            found.x, found.status = None, 4
        return found

    optimize_milp = optimize.milp
    monkeypatch.setattr(optimize, "milp", failing)
    made = suggest(before, wishes, small=0)
    assert made.reached == honest.reached
    assert made.least <= honest.price + 1e-6
    assert made.price <= 1.5 * honest.price + 1e-9


def test_a_solver_in_trouble_is_asked_once_more_another_way(monkeypatch):
    before, wishes = random_wish(8)
    honest, tried = suggest(before, wishes, small=0), []

    def troubled(usual):
        def solve(*of, options, **others):
            found = usual(*of, options=dict(options), **others)
            tried.append(options["presolve"])
            if options["presolve"]:
                found.x, found.status = None, 4
            return found

        return solve

    for name in ("milp", "linprog"):
        monkeypatch.setattr(optimize, name, troubled(getattr(optimize, name)))
    made = suggest(before, wishes, small=0)
    assert (made.price, made.reached) == (pytest.approx(honest.price), honest.reached)
    assert tried and tried == [True, False] * (len(tried) // 2)


@pytest.mark.parametrize(
    ("count", "wanted"),
    [(1, 0.0), (FEW - 1, 0.0), (FEW, 0.0), (FEW + 1, NEAR), (MANY - 1, NEAR), (MANY, NEAR), (MANY + 1, NEAR_OF_MANY)],
)
def test_how_near_is_near_enough_goes_by_the_number_of_candidates(count, wanted):
    assert near(SimpleNamespace(candidates=[None] * count)) == wanted


@pytest.mark.parametrize(("post_fader", "through"), [(0, 2), (1, 1), (2, 0), (3, 2)])
def test_a_freeze_is_offered_up_to_the_fader_and_of_the_whole_chain_where_all_comes_after_it(post_fader, through):
    of = session(track("a", "eq", "comp", "verb", post_fader=post_fader))
    before = survey(of, Plan(), cards_for(of, {"eq": 1e-4, "comp": 1e-4, "verb": 1e-4}), Machine(1), 256)
    found = candidates(before, Wishes(0.5, kinds=("freeze",)))
    assert [decision.through for each in found for decision in each.decisions] == [through]


@pytest.mark.parametrize("seed", [8, 16, 29])
def test_of_a_few_tracks_on_one_core_hardly_less_than_is_suggested_could_be_given_up(seed):
    """It was 34 % that could, as far as was proven: what is suspended and has plugins switched off was taken twice."""
    of, wishes = few_tracks(seed)
    made = suggest(of, wishes)
    assert made.reached and made.load <= wishes.limit + 1e-9 and made.gap < 0.005


def test_what_no_bound_tells_is_not_looked_for_without_end(monkeypatch):
    """Among 53 decisions on two cores, a second for each answer in whole numbers; there were 126 of them."""
    of, wishes = few_tracks(12)
    asked, whole = [], Program.whole
    monkeypatch.setattr(Program, "whole", lambda self, *how, **more: (asked.append(1), whole(self, *how, **more))[1])
    made = suggest(of, wishes)
    assert made.reached and made.price < 2.63 and len(asked) <= 40


def test_with_the_opposite_of_its_largest_decision_a_plan_may_be_cheaper():
    """The example at 75 %: one reverb shared by thirty tracks, or a lot of small decisions that cost more."""
    saved = demo_saved()
    cards = {each.key: each for each in saved.cards}
    of = survey(saved.session, saved.plan, cards, saved.machine, saved.buffer)
    wishes = Wishes(0.75, pinned=frozenset(saved.plan.pinned))
    found = candidates(of, wishes)
    evaluator, free = Evaluator(of, found, wishes.limit), Program(of, found, wishes, Rows(of, found))
    large = max(range(len(found)), key=lambda n: free.rows.gain[n])
    many = search(_other_way(free, large, False), evaluator)
    assert found[large].kind == "share" and not many[large]
    other = _cheaper(_other_way(free, large, True), evaluator, many)
    assert other[large] and evaluator.holds(other)
    assert free.price(other) < 0.8 * free.price(many)
    # The cheaper of both stays.
    assert _cheaper(_other_way(free, large, False), evaluator, other) is other


class TestSlowAnswers:
    """Where answers in whole numbers take seconds: what is asked for, and when it is enough."""

    @pytest.fixture
    def knapsack(self, monkeypatch):
        """A program with its relaxed answer, of which it is said that answers in whole numbers take long."""
        _, of, wishes, _ = next(each for each in known() if each[0] == "knapsack")
        found = candidates(of, wishes)
        made = Program(of, found, wishes, Rows(of, found))
        monkeypatch.setattr(made, "is_slow", lambda near: True, raising=False)
        with as_many():
            yield made, made.relaxed(), Evaluator(of, found, wishes.limit)

    def test_an_answer_in_the_core_proves_nothing(self, knapsack, monkeypatch):
        made, relaxed, _ = knapsack
        monkeypatch.setattr(made, "rounded", lambda taken: None)
        whole, asked = made.whole, []

        def noted(*more):
            asked.append(more[4] if len(more) > 4 else np.inf)
            return whole(*more)

        monkeypatch.setattr(made, "whole", noted)
        found = answer(made, relaxed)
        assert asked == [CORE] and found.bound == relaxed.bound < made.price(found.taken > 0.5)

    def test_where_the_core_holds_none_all_is_looked_at(self, knapsack, monkeypatch):
        made, relaxed, _ = knapsack
        monkeypatch.setattr(made, "rounded", lambda taken: None)
        whole = made.whole
        monkeypatch.setattr(made, "whole", lambda *more: None if len(more) > 4 and more[4] == CORE else whole(*more))
        found = answer(made, relaxed)
        assert found is not None and found.bound == pytest.approx(312.0, rel=QUICK_GAP)

    @pytest.mark.parametrize(("second", "goes_on"), [(0.995, False), (0.98, True)])
    def test_what_is_hardly_cheaper_than_the_plan_in_hand_ends_it(self, knapsack, monkeypatch, second, goes_on):
        made, relaxed, evaluator = knapsack
        prices = (1000.0, 1000.0 * second)
        monkeypatch.setattr(made, "price", lambda chosen: prices[int(np.argmax(chosen))])
        monkeypatch.setattr(made, "separate", lambda taken: 0)
        monkeypatch.setattr(made, "at_least", lambda relaxed: 0.0)
        alone = [Solved(np.eye(len(made.candidates))[number], 0.0) for number in range(2)]
        monkeypatch.setattr(module, "_answers", lambda *_: ((relaxed, each) for each in alone))
        monkeypatch.setattr(module, "bettered", lambda program, evaluator, chosen: chosen)
        monkeypatch.setattr(module, "loosen", lambda *_: None)
        best = search(made, evaluator)
        assert int(np.argmax(best)) == goes_on
