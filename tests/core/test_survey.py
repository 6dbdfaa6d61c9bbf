"""One computation for everything shown: the figures of the page follow from each other."""

from __future__ import annotations

import random

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.apply import apply
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.decisions.options import options
from nimbleload.core.decisions.rendering import audio_bytes, audio_seconds
from nimbleload.core.load.rehearsal import Rehearsal
from nimbleload.core.optimise.weigh import weigh
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.survey import foreseen, instant, ranked, saving, survey, to_rehearse, without_plan, worst_seconds
from tests.helpers.often import often
from tests.helpers.sessions import bus, cards_for, random_cards, random_session, session, track, use


def random_survey(seed: int, buffer: int = 256):
    rng = random.Random(seed)
    of = random_session(rng)
    return survey(of, Plan(), random_cards(rng, of), Machine(rng.randint(1, 4)), buffer)


@pytest.mark.parametrize("seed", range(often(5)))
def test_ladder_block_and_piece_say_the_same(seed):
    of = random_survey(seed)
    at = instant(of)
    rung = at.rung(256)
    assert rung.load == of.after.load[at.moment] == of.after.load.max()
    assert rung.load * of.deadline == pytest.approx(at.block.makespan, rel=1e-12)
    assert rung.chain * of.deadline == pytest.approx(at.block.chain_bound)
    assert at.strip_costs.sum() == pytest.approx(at.block.work)
    lanes = [at.strip_costs[at.block.core == core].sum() for core in range(of.threads)]
    assert sum(lanes) == pytest.approx(at.block.work)
    assert (at.block.end - at.block.start) == pytest.approx(at.strip_costs)
    host = of.session.host
    for i, strip in enumerate(of.planned.session.strips):
        plugins = sum(at.use_costs[u.id] for u in strip.live_uses())
        overhead = host.strip_overhead + host.plugin_overhead * len(strip.live_uses())
        assert plugins + overhead / of.machine.speed == pytest.approx(at.strip_costs[i])


def test_a_rehearsal_is_foreseen_with_its_own_time_beside_the_plugins():
    """The host that the session is for takes 40 µs a strip, and works ahead in parts; the rehearsal took 2 µs."""
    host = Host(1, 40e-6, 5e-6, parts=2)
    of = session(track("a", "p", output="main"), track("b", "q", output="main"), host=host)
    cards = cards_for(of, {"p": 1e-3, "q": 2e-3})
    here = survey(to_rehearse(of), Plan(), cards, Machine(1), 256)
    assert here.session.host == Host()
    outcome = Rehearsal(256, 48000, 1.0, 1, True, True, (0.6,), 0, {}, {}, {}, (0.6,), 2e-6, 0.0, 1.0)
    predicted = foreseen(here, instant(here, 1.0), outcome)
    assert predicted.typical * here.deadline == pytest.approx(3e-3 + 3 * 2e-6)
    assert predicted.strips.tolist() == pytest.approx([1e-3 + 2e-6, 2e-3 + 2e-6, 2e-6])


def test_an_odd_buffer_gets_a_rung_of_its_own():
    of = random_survey(1, buffer=96)
    at = instant(of)
    assert [r.buffer for r in at.rungs] == [32, 64, 96, 128, 256, 512, 1024, 2048, 4096]
    assert at.rung(96).load == of.after.load.max()
    with pytest.raises(KeyError):
        at.rung(100)


@pytest.mark.parametrize("seed", range(often(5)))
def test_a_saving_is_what_the_load_computation_says_after_apply(seed):
    of = random_survey(seed)
    at = instant(of)
    for strip in of.session.strips:
        for option in options(strip, of.session):
            if option.reason is not None or option.decision.kind == "live":
                continue
            plan = Plan().decide(option.decision)
            after = survey(of.session, plan, of.now.cards, of.machine, 256)
            then = instant(after, at.second)
            found = saving(of, at, [option.decision])
            assert found.load == pytest.approx(at.rung(256).load - then.rung(256).load, abs=1e-12)
            assert found.work == pytest.approx((at.block.work - then.block.work) / of.deadline, abs=1e-12)
            assert then.load_before == at.rung(256).load


def test_freezing_takes_away_exactly_what_the_cards_say():
    of = session(track("a", "eq", "comp"), track("b", "eq"))
    cards = cards_for(of, {"eq": 1e-4, "comp": 5e-4})
    found = survey(of, Plan(), cards, Machine(4), 256)
    at = instant(found, 5.0)
    assert saving(found, at, [Decision("freeze", "a")]).work * found.deadline == pytest.approx(6e-4, rel=1e-9)


@pytest.mark.parametrize("seed", range(often(4)))
def test_what_strips_cost_without_the_plan(seed):
    """Without decisions as shown, whatever is off in the session itself; spared plugins come on top of what is left."""
    of = random_survey(seed)
    rng = random.Random(seed)
    bypassed = {each.id for strip in of.session.strips for each in strip.uses() if rng.random() < 0.3}
    strips = [
        msgspec.structs.replace(strip, inserts=tuple(
            msgspec.structs.replace(each, enabled=each.id not in bypassed) for each in strip.inserts
        )) for strip in of.session.strips
    ]  # fmt: skip
    edited = msgspec.structs.replace(of.session, strips=tuple(strips))
    cards = of.now.cards
    plain = survey(edited, Plan(), cards, of.machine, 256)
    for basis in ("moment", "peak", "piece"):
        shown = ranked(plain, instant(plain), basis)
        assert np.array_equal(without_plan(plain, shown), shown.strips)
    decided = [each.id for each in edited.strips if each.kind == "track"][:2]
    with_plan = survey(edited, Plan().with_all(Decision("off", each) for each in decided), cards, of.machine, 256)
    shown = ranked(with_plan, instant(with_plan), "peak")
    told = without_plan(with_plan, shown)
    host = with_plan.session.host
    assert host.parts == 1 and not host.read_ahead
    for i, strip in enumerate(edited.strips):
        live = [each.id for each in strip.live_uses()] if strip.id in decided else []
        by_host = (host.strip_overhead + host.plugin_overhead * len(live)) * (1 + with_plan.case.costs.interrupted)
        spared = sum(shown.uses[each] for each in live) + (by_host / of.machine.speed if live else 0.0)
        assert told[i] == pytest.approx(shown.strips[i] + spared, rel=1e-12)


def test_savings_are_told_against_live_whatever_is_chosen():
    of = session(track("a", "eq", "comp"))
    cards = cards_for(of, {"eq": 1e-4, "comp": 5e-4})
    live = survey(of, Plan(), cards, Machine(1), 256)
    frozen = survey(of, Plan().decide(Decision("freeze", "a")), cards, Machine(1), 256)
    for decision in (
        Decision("freeze", "a", through=0),
        Decision("freeze", "a"),
        Decision("off", "a"),
        Decision("live", "a"),
    ):
        one, other = (saving(s, instant(s, 5.0), [decision]) for s in (live, frozen))
        assert one.load == pytest.approx(other.load, abs=1e-12)


def test_the_option_that_is_taken_is_marked_and_only_that():
    of = session(track("a", "eq", "comp", instrument=use("synth", voices=2)))
    for decision, expected in (
        (None, "Keep live"),
        (Decision("freeze", "a", through=-1), "Freeze the instrument"),
        (Decision("freeze", "a"), "Freeze through insert 2"),
        (Decision("freeze", "a", through=1), "Freeze through insert 2"),
        (Decision("off", "a"), "Switch off"),
    ):
        plan = Plan() if decision is None else Plan().decide(decision)
        found = survey(of, plan, {}, Machine(2), 256)
        taken = [w.option.title for w in weigh(found, instant(found), ["a"]) if w.taken]
        assert taken == [expected]


def test_several_tracks_are_decided_together_and_the_impossible_ones_left_out():
    of = session(track("a", "eq"), track("b", "eq"), track("c", "eq", armed=True))
    found = survey(of, Plan(), cards_for(of, {"eq": 1e-4}), Machine(1), 256)
    freeze = next(w for w in weigh(found, instant(found), ["a", "b", "c"]) if w.option.title.startswith("Freeze"))
    assert {d.strip for d in freeze.decisions} == {"a", "b"}
    assert (freeze.possible, freeze.strips) == (2, 3)
    assert freeze.saving is not None
    assert freeze.saving.work * found.deadline == pytest.approx(2e-4)


def test_nothing_chosen_has_no_options():
    found = random_survey(3)
    assert weigh(found, instant(found), []) == []


def test_the_same_survey_comes_out_with_or_without_what_is_taken_over():
    rng = random.Random(8)
    of = random_session(rng)
    cards = random_cards(rng, of)
    first = survey(of, Plan(), cards, Machine(3), 256)
    plan = Plan().decide(Decision("off", of.strips[0].id)) if of.strips[0].kind != "main" else Plan()
    for again, fresh in (
        (survey(of, plan, cards, Machine(3), 256, first), survey(of, plan, cards, Machine(3), 256)),
        (survey(of, Plan(), cards, Machine(2), 64, first), survey(of, Plan(), cards, Machine(2), 64)),
    ):
        assert np.array_equal(again.after.load, fresh.after.load)
        assert np.array_equal(again.before.load, fresh.before.load)
        assert [r.load for r in instant(again).rungs] == [r.load for r in instant(fresh).rungs]


def test_worst_seconds_lie_in_moments_of_that_load():
    of = random_survey(2)
    seconds = worst_seconds(of.after)
    assert instant(of, seconds[0]).rung(256).load == of.after.load.max()


def test_what_a_freeze_writes_counts_overlaps_once():
    strip = track("a", "eq", clips=((0, 4), (2, 6), (8, 9)))
    assert audio_seconds(strip) == pytest.approx(7.0)
    assert audio_bytes(strip, 48000) == pytest.approx(7 * 48000 * 2 * 4)


def test_options_that_are_impossible_say_why():
    of = session(bus("b", "eq"))
    by_title = {o.title: o for o in options(of.strip("b"), of)}
    assert by_title["Keep live"].reason is None
    assert "only a track" in (by_title["Freeze through insert 1"].reason or "")
    assert (
        apply(session(bus("b", "eq")), Plan().decide(by_title["Switch off"].decision)).session.strip("b").enabled
        is False
    )


@pytest.mark.parametrize("seed", range(often(9)))
def test_a_chain_of_plans_gives_what_each_plan_gives_afresh(seed):
    """Whatever is taken over from the survey before, decision after decision, no figure changes."""
    rng = random.Random(seed)
    of = random_session(rng)
    cards = random_cards(rng, of)
    plan, before = Plan(), survey(of, Plan(), cards, Machine(3), 256)
    for _ in range(6):
        strip = rng.choice(of.strips)
        kind = rng.choice(["off", "freeze", "live"])
        use_id = rng.choice(strip.uses()).id if strip.uses() and rng.random() < 0.4 and kind != "freeze" else None
        plan = plan.decide(Decision(kind, strip.id, use_id))
        buffer = rng.choice([64, 256, 1024])
        again, fresh = survey(of, plan, cards, Machine(3), buffer, before), survey(of, plan, cards, Machine(3), buffer)
        assert np.array_equal(again.after.load, fresh.after.load)
        assert np.array_equal(again.before.load, fresh.before.load)
        one, other = instant(again, 5.0), instant(fresh, 5.0)
        assert one.use_costs == other.use_costs
        assert one.shares == other.shares
        assert one.judged == other.judged
        before = again


@pytest.mark.parametrize("seed", range(8))
def test_what_was_edited_away_leaves_nothing_behind(seed):
    """A session has the same load however it came about: cells are told at one clock, which those of plugins that are
    gone have no part in."""
    rng = random.Random(seed)
    of = random_session(rng)
    cards = {
        key: msgspec.structs.replace(card, cells=tuple(
            msgspec.structs.replace(cell, clock=rng.uniform(600e-9, 900e-9)) for cell in card.cells
        )) for key, card in random_cards(rng, of).items()
    }  # fmt: skip
    plan, before = Plan(), survey(of, Plan(), cards, Machine(3), 256)
    clocks = set()
    for _ in range(8):
        strips = [
            msgspec.structs.replace(strip, inserts=tuple(each for each in strip.inserts if rng.random() < 0.7))
            for strip in of.strips
        ]
        edited = msgspec.structs.replace(of, strips=tuple(strips))
        plan = Plan().decide(Decision("off", rng.choice(strips).id))
        given = edited, plan, cards, Machine(3), 256
        again, fresh = survey(*given, before), survey(*given)
        assert np.array_equal(again.after.load, fresh.after.load)
        assert np.array_equal(again.before.load, fresh.before.load)
        # A plan changes no clock: with it and without it the same plugins cost the same.
        assert again.planned.figures is again.now.figures
        clocks.add(again.now.figures.clock)
        before = again
    assert len(clocks) > 1
