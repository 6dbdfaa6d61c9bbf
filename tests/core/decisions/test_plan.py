"""Plans: what each decision does to a session, in what order, and why some are not possible."""

from __future__ import annotations

import itertools
import random

import msgspec
import pytest

from nimbleload.core.decisions.apply import apply, obstacle
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.decisions.rendering import last_place, through_obstacle
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import Variant
from tests.helpers.often import often
from tests.helpers.sessions import bus, cards_for, random_cards, random_session, session, setting, track, use


def random_decision(rng: random.Random, of) -> Decision:
    strip = rng.choice(of.strips)
    uses = strip.uses()
    if uses and rng.random() < 0.4:
        return Decision("off", strip.id, rng.choice(uses).id)
    if rng.random() < 0.5:
        return Decision("freeze", strip.id, through=rng.choice([None, *range(-1, len(strip.inserts))]))
    return Decision("off", strip.id)


def test_a_plan_without_decisions_changes_nothing_to_the_bit():
    for seed in range(30):
        rng = random.Random(seed)
        of = random_session(rng)
        cards = random_cards(rng, of)
        after = apply(of, Plan())
        assert after.session is of
        assert after.warnings == ()
        before = load_map(case(prepare(of, cards), Machine(3), 256))
        again = load_map(case(prepare(after.session, cards), Machine(3), 256))
        assert before.load.tobytes() == again.load.tobytes()


@pytest.mark.parametrize("seed", range(often(13)))
def test_decisions_give_the_same_session_in_any_order(seed):
    rng = random.Random(seed)
    of = random_session(rng)
    decisions = {d.subject: d for d in (random_decision(rng, of) for _ in range(4))}
    results = {
        msgspec.json.encode(apply(of, Plan(tuple(order))).session)
        for order in itertools.permutations(decisions.values())
    }
    assert len(results) == 1


def test_a_freeze_takes_in_the_instrument_and_the_inserts_up_to_its_place():
    of = session(track("a", "eq", "comp", instrument=use("synth", voices=4)))
    frozen = apply(of, Plan().decide(Decision("freeze", "a", through=0))).session.strip("a")
    assert [u.label for u in frozen.live_uses()] == ["comp"]
    whole = apply(of, Plan().decide(Decision("freeze", "a"))).session.strip("a")
    assert whole.live_uses() == ()
    source = apply(of, Plan().decide(Decision("freeze", "a", through=-1))).session.strip("a")
    assert [u.label for u in source.live_uses()] == ["eq", "comp"]


def test_switching_off_a_plugin_or_a_strip_takes_exactly_its_cost():
    of = session(track("a", "eq", "comp"), track("b", "eq"))
    cards = cards_for(of, {"eq": 1e-4, "comp": 5e-4})

    def work(plan):
        loads = load_map(case(prepare(apply(of, plan).session, cards), Machine(1), 256))
        return float(loads.load.max()) * loads.deadline

    assert work(Plan()) == pytest.approx(7e-4)
    assert work(Plan().decide(Decision("off", "a", "a/comp"))) == pytest.approx(2e-4)
    assert work(Plan().decide(Decision("off", "a"))) == pytest.approx(1e-4)


def test_the_input_is_never_changed():
    of = session(track("a", "eq"))
    before = msgspec.json.encode(of)
    apply(of, Plan().decide(Decision("freeze", "a")).decide(Decision("off", "a", "a/eq")))
    assert msgspec.json.encode(of) == before


def test_a_later_decision_takes_the_place_of_the_earlier_and_live_takes_it_back():
    plan = Plan().decide(Decision("freeze", "a")).decide(Decision("off", "b"))
    changed = plan.decide(Decision("off", "a"))
    assert changed.for_strip("a") == Decision("off", "a")
    assert len(changed.decisions) == 2
    assert changed.decide(Decision("live", "a")) == Plan((Decision("off", "b"),))
    assert Plan().decide(Decision("live", "a")) == Plan()


@pytest.mark.parametrize(
    ("strip", "decision", "words"),
    [
        (track("a", "eq", armed=True), Decision("freeze", "a"), "record-armed"),
        (track("a", "eq", clips=()), Decision("freeze", "a"), "no clips"),
        (track("a"), Decision("freeze", "a"), "no plugins"),
        (bus("a", "eq"), Decision("freeze", "a"), "only a track"),
        (track("a", "eq"), Decision("freeze", "a", through=5), "no place 6"),
        (track("a", "eq"), Decision("freeze", "a", through=-1), "no place 0"),
        (track("a", "eq"), Decision("freeze", "a", "a/eq"), "not for one plugin alone"),
        (bus("a", "eq", kind="main", output=None), Decision("off", "a"), "main output cannot"),
        (track("a", "eq"), Decision("off", "a", "gone"), "not on it: gone"),
    ],
)
def test_what_is_not_possible_says_why_and_changes_nothing(strip, decision, words):
    reason = obstacle(strip, decision, session(strip))
    assert reason is not None
    assert words in reason
    of = session(strip)
    after = apply(of, Plan().decide(decision))
    assert after.session.strips == of.strips
    assert any(words in warning and strip.name in warning for warning in after.warnings)


def test_a_plan_that_speaks_of_another_session_is_told():
    after = apply(session(track("a", "eq")), Plan().decide(Decision("off", "elsewhere")))
    assert any("elsewhere" in warning for warning in after.warnings)


def test_a_frozen_side_chain_is_a_trap():
    ducked = msgspec.structs.replace(track("music"), inserts=(use("duck", "music/duck", sidechain="voice"),))
    of = session(track("voice", "eq"), ducked)
    warnings = apply(of, Plan().decide(Decision("freeze", "music"))).warnings
    assert any("side-chain of duck from voice is frozen" in w for w in warnings)
    assert apply(of, Plan().decide(Decision("freeze", "voice"))).warnings == ()


def test_a_bus_that_lost_its_input_still_costs_and_is_told():
    of = session(track("a", "eq", output="drums"), bus("drums", "comp"))
    warnings = apply(of, Plan().decide(Decision("off", "a"))).warnings
    assert any("drums: nothing feeds it any more" in w for w in warnings)
    assert apply(of, Plan().decide(Decision("freeze", "a"))).warnings == ()


class TestOtherKinds:
    def test_a_suspended_strip_costs_nothing_while_it_is_silent_and_all_of_it_while_it_sounds(self):
        of = session(track("a", "p", clips=((0, 5),)), track("b", "p"))
        cards = cards_for(of, {"p": 1e-3})
        after = apply(of, Plan((Decision("suspend", "a"),)))
        assert after.session.strip("a").suspended
        loads = load_map(case(prepare(after.session, cards), Machine(1), 256)).load * 256 / 48000
        assert loads == pytest.approx([2e-3, 1e-3])

    def test_a_lightened_plugin_takes_its_variants_setting_and_only_that_one(self):
        of = session(track("a", "p"), track("b", "p"))
        variant = Variant(of.strip("a").inserts[0].card_key(), "off", setting(quality=0))
        of = msgspec.structs.replace(of, variants=(variant,))
        after = apply(of, Plan((Decision("lighten", "a", "a/p", variant="off"),)))
        assert after.session.strip("a").inserts[0].setting == setting(quality=0)
        assert after.session.strip("b") == of.strip("b")
        assert after.warnings == ()

    def test_a_variant_that_is_gone_is_said_and_nothing_is_changed(self):
        of = session(track("a", "p"))
        after = apply(of, Plan((Decision("lighten", "a", "a/p", variant="off"),)))
        assert after.session == of
        assert "no lighter setting named 'off'" in after.warnings[0]

    def test_disarming_lets_a_track_be_frozen_the_other_way_round_is_refused(self):
        of = session(track("a", "p", armed=True))
        assert apply(of, Plan((Decision("disarm", "a"),))).session.strip("a").armed is False
        assert "record-armed" in apply(of, Plan((Decision("suspend", "a"),))).warnings[0]
        assert "not armed" in apply(session(track("a")), Plan((Decision("disarm", "a"),))).warnings[0]


def test_a_step_that_changes_places_changes_nothing_else():
    of = session(*(track(name, "eq", "verb") for name in "abcd"))
    plan = Plan((Decision("freeze", "a"), Decision("share", "b", "b/verb", into="x"), Decision("off", "d"),
                 Decision("share", "c", "c/verb", into="x")), pinned=("d",))  # fmt: skip
    assert [len(step) for step in plan.steps()] == [1, 2, 1]
    later = plan.moved(0, 2)
    assert later.steps() == [plan.steps()[1], plan.steps()[2], plan.steps()[0]]
    assert later.moved(2, -2).steps() == plan.steps()
    assert later.pinned == plan.pinned
    assert apply(of, later).session == apply(of, plan).session
    for step, by in ((0, -1), (2, 1), (3, -1), (-1, 1)):
        with pytest.raises(IndexError, match="the plan has 3 steps"):
            plan.moved(step, by)


@pytest.mark.parametrize(
    ("through", "instrument", "possible"),
    [(-2, True, False), (-1, True, True), (-1, False, False), (0, False, True), (1, False, True), (2, False, False)],
)
def test_only_places_of_the_chain_can_be_frozen_up_to(through, instrument, possible):
    of = session(track("a", "eq", "comp", instrument=use("synth", voices=4) if instrument else None))
    decision = Decision("freeze", "a", through=through)
    assert (through_obstacle(of.strip("a"), decision) is None) == possible
    assert last_place(of.strip("a"), decision) == through


@pytest.mark.parametrize("name", ["a", "z"])
def test_what_is_cut_out_of_a_track_that_its_bus_is_printed_with_is_off_whichever_comes_first(name):
    """By their ids decisions are taken in their order: the track's before the bus's, and after it."""
    of = session(track(name, "eq", output="m", clips=((0.0, 4.0),)), bus("m", "verb"))
    plan = Plan((Decision("bounce", name, start=1.0, end=2.0), Decision("bounce", "m")))
    made = {strip.id: strip.enabled for strip in apply(of, plan).session.strips}
    assert made == {name: False, f"{name}/bounced": False, "m": True, "main": True}
