"""The cheapest freezes that make room in memory, against all that there are."""

from __future__ import annotations

import itertools
import random

import msgspec
import pytest

from nimbleload.core.decisions.apply import apply, obstacle, price
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.decisions.rendering import last_place
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import worst_load
from nimbleload.core.load.memory import memory
from nimbleload.core.optimise.alternatives import alternatives
from nimbleload.core.optimise.candidates import Wishes, wishes_for
from nimbleload.core.optimise.steps import steps
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.optimise.unload import unload
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import within
from nimbleload.core.survey import survey, with_plan
from nimbleload.core.told.plans import plan_words
from nimbleload.core.told.steps import step_words
from tests.helpers.often import often
from tests.helpers.sessions import bus, cards_for, session, track, use

MB = 1 << 20
DEADLINE = 256 / 48000


def drawn(seed):
    """A few tracks with samplers of two kinds and effects, which keep whole megabytes, some of them together."""
    rng = random.Random(seed)
    strips = []
    for k in range(rng.randint(2, 4)):
        plugins = [rng.choice(("eq", "verb")) for _ in range(rng.randint(0, 2))]
        own = track(f"t{k}", *plugins, output=rng.choice(("b", "main")), clips=((0.0, rng.uniform(1.0, 9.0)),))
        if rng.random() < 0.8 or not plugins:
            synth = use(rng.choice(("kit", "choir")), f"t{k}/synth", voices=1)
            notes = tuple(msgspec.structs.replace(clip, kind="notes", voices=within(((0.0, 1),), clip.start, clip.end))
                          for clip in own.clips)
            own = msgspec.structs.replace(own, instrument=synth, clips=notes)
        strips.append(own)
    of = session(*strips, bus("b", "verb"))
    cards = cards_for(of, {name: rng.uniform(0.02, 0.4) * DEADLINE for name in ("eq", "verb", "kit", "choir")})
    for key, each in cards.items():
        sampler = key.identifier in ("kit", "choir")
        up = msgspec.structs.replace(
            each.upkeep, memory=rng.randint(0, 20) * MB, pool=rng.randint(0, 60) * MB * sampler,
            code=rng.randint(0, 9) * MB, load=rng.uniform(0, 30),
        )  # fmt: skip
        cards[key] = msgspec.structs.replace(each, upkeep=up)
    return rng, of, cards


def every(of, base):
    """Every plan that freezes and unloads some of the tracks, each up to some place, over another plan."""
    ways = []
    for strip in of.strips:
        places = {-1, strip.last_before_fader, len(strip.inserts) - 1} if strip.instrument else {len(strip.inserts) - 1}
        now = base.for_strip(strip.id)
        least = last_place(strip, now) if now is not None and now.kind == "freeze" else -1
        freezes = [Decision("freeze", strip.id, through=p, unloaded=True) for p in sorted(places) if p >= least]
        ways.append([None, *(each for each in freezes if obstacle(strip, each, of) is None)])
    for chosen in itertools.product(*ways):
        yield base.with_all(each for each in chosen if each is not None)


def cost(of, wishes, plan, base):
    """What a plan costs beyond another one."""
    terms = wishes.terms(of)
    return price(terms, *plan.decisions).minutes - price(terms, *base.decisions).minutes


@pytest.mark.parametrize("seed", range(often(25)))
def test_no_freezes_that_make_room_cost_less(seed):
    rng, session_, cards = drawn(seed)
    base = Plan()
    for strip in session_.strips[:1] if rng.random() < 0.5 else ():
        base = base.decide(Decision(rng.choice(("freeze", "suspend")), strip.id))
    of = survey(session_, base, cards, Machine(2), 256)
    wishes = Wishes(9.0, memory=of.memory.bytes * rng.uniform(0.1, 1.05))

    def keeps(plan):
        return memory(apply(session_, plan).session, cards).bytes

    prices = [cost(of, wishes, plan, base) for plan in every(session_, base) if keeps(plan) <= wishes.memory]
    found = unload(of, wishes)
    assert (found is None) == (not prices)
    if found is None:
        least = min(keeps(plan) for plan in every(session_, base))
        assert suggest(of, wishes).short == pytest.approx(least - wishes.memory)
        return
    plan = base.with_all(found.decisions)
    assert keeps(plan) <= wishes.memory
    assert cost(of, wishes, plan, base) == pytest.approx(max(min(prices), 0.0), abs=1e-5)
    assert found.least <= min(prices) + 1e-5



@pytest.mark.parametrize("seed", range(often(25)))
def test_a_plan_keeps_the_limit_and_the_room_and_its_least_price_is_never_too_high(seed):
    rng, session_, cards = drawn(1000 + seed)
    of = survey(session_, Plan(), cards, Machine(2), 256)
    limit, room = of.after.highest * rng.uniform(0.5, 1.1), of.memory.bytes * rng.uniform(0.3, 1.05)
    wishes = Wishes(limit, kinds=("freeze",), memory=room)
    prices = []
    for plan in every(session_, Plan()):
        # What is not unloaded costs less to come back to.
        loaded = (msgspec.structs.replace(each, unloaded=False) for each in plan.decisions)
        for kept in itertools.product(*zip(plan.decisions, loaded, strict=True)):
            tried = Plan(kept)
            fits = memory(apply(session_, tried).session, cards).bytes <= room
            if fits and worst_load(case(with_plan(of, tried), of.machine, 256)) <= limit + 1e-9:
                prices.append(cost(of, wishes, tried, Plan()))
    found = suggest(of, wishes)
    assert found.reached == bool(prices)
    if not prices:
        assert plan_words(of, found)
        return
    assert found.kept <= room and found.load <= limit + 1e-9
    assert found.least <= min(prices) + 1e-6 <= found.price + 2e-6
    assert found.price == pytest.approx(cost(of, wishes, found.plan, Plan()))
    # Found in two turns: seldom dearer, and never by much.
    assert found.price <= 1.25 * min(prices) + 1e-6


def choir():
    tracks = (track(f"t{k}", "eq", clips=((0.0, 5.0),), output="b") for k in range(3))
    of = session(*(msgspec.structs.replace(each, instrument=use("kit", f"{each.id}/kit")) for each in tracks), bus("b"))
    cards = cards_for(of, {"kit": 0.1 * DEADLINE, "eq": 0.01 * DEADLINE})
    for key, each in cards.items():
        memory_, pool = (100 * MB, 900 * MB) if key.identifier == "kit" else (MB, 0)
        up = msgspec.structs.replace(each.upkeep, memory=memory_, pool=pool)
        cards[key] = msgspec.structs.replace(each, upkeep=up)
    return of, cards


def test_what_is_pinned_armed_or_has_other_decisions_stays_loaded():
    of, cards = choir()
    wishes = Wishes(2.0, memory=1150 * MB)
    one = unload(survey(of, Plan(), cards, Machine(2), 256), wishes)
    assert one is not None and len(one.decisions) == 1
    two = unload(survey(of, Plan(), cards, Machine(2), 256), wishes._replace(pinned=frozenset({"t0", "t1"})))
    assert [each.strip for each in two.decisions] == ["t2"]
    off = survey(of, Plan((Decision("off", "t0", "t0/eq"), Decision("bounce", "t1"))), cards, Machine(2), 256)
    # What holds a plugin that is decided about, and what is bounced, is left alone: the rest is not enough.
    assert {each.strip for each in unload(off, wishes._replace(memory=3.0 * MB)).decisions} == {"t0", "t2"}
    assert unload(off, wishes._replace(memory=0.5 * MB)) is None
    armed = msgspec.structs.replace(of, strips=tuple(msgspec.structs.replace(s, armed=True) for s in of.strips))
    assert unload(survey(armed, Plan(), cards, Machine(2), 256), wishes) is None
    assert unload(survey(of, Plan(), cards, Machine(2), 256), wishes._replace(kinds=("suspend",))) is None
    assert unload(survey(of, Plan(), cards, Machine(2), 256), wishes._replace(disk=1000.0)) is None


def test_a_suggestion_goes_by_the_memory_of_its_computer_and_says_what_it_gives_back():
    of, cards = choir()
    before = survey(of, Plan(), cards, Machine(2, memory=1400 * MB), 256)
    wishes = wishes_for(before, Wishes().weights, Wishes().kinds)
    found = suggest(before, wishes)
    assert found.reached and len(found.steps) == 1 and found.steps[0].decision.unloaded
    assert "Plugins keep 1.2 GB → 1.1 GB." in plan_words(before, found)
    (step,) = steps(survey(of, found.plan, cards, before.machine, 256))
    assert ", unloaded, 10 % of one core, 100 MB of memory: worst" in step_words(before, step)
    # Three to choose from all fit.
    assert all(plan.found.kept <= wishes.memory for plan in alternatives(before, wishes).values())
    short = suggest(before, wishes._replace(memory=0.5 * MB, pinned=frozenset({"t0"})))
    assert not short.reached and short.short > 0
    assert short.kept == pytest.approx(101 * MB + 900 * MB) and short.kept - short.short == 0.5 * MB
    told = "With all unloaded that can be frozen, plugins would keep 1.0 GB of memory: 1.0 GB more than"
    assert plan_words(before, short).startswith(told)
    elsewhere = survey(of, Plan(), cards, Machine(2), 256)
    assert wishes_for(elsewhere, Wishes().weights, Wishes().kinds).memory is None


def test_what_is_decided_already_is_not_paid_again_and_loading_again_is():
    of, cards = choir()
    kit = next(key for key in cards if key.identifier == "kit")
    cards[kit] = msgspec.structs.replace(cards[kit], upkeep=msgspec.structs.replace(cards[kit].upkeep, load=90.0))
    base = Plan((Decision("freeze", "t1"), Decision("suspend", "t2")))
    before, wishes = survey(of, base, cards, Machine(2), 256), Wishes(2.0, memory=3.0 * MB)
    terms = wishes.terms(before)
    loaded, unloaded = (price(terms, Decision("freeze", "t1", unloaded=each)).minutes for each in (False, True))
    # One will come back to it once, and then it takes a minute and a half to load.
    assert unloaded - loaded == pytest.approx(1.5 + cards[of.strips[0].inserts[0].card_key()].upkeep.load / 60)
    found = suggest(before, wishes)
    assert found.reached and len(found.plan.decisions) == 3
    assert found.price == pytest.approx(cost(before, wishes, found.plan, base))
