"""The suggested plan: against exhaustive search on small sessions, minimal by the block computation, and honest."""

from __future__ import annotations

import itertools
import random

import msgspec
import pytest

from nimbleload.core.cards.card import CostCard, Polyphony, Truth
from nimbleload.core.decisions.plan import Decision, Plan, apply
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.optimise.alternatives import alternatives
from nimbleload.core.optimise.candidates import PRESETS, Weights, Wishes, candidates
from nimbleload.core.optimise.search import suggest
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.session.plugins import Variant
from nimbleload.core.session.session import Section, Session
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import survey
from nimbleload.core.told.steps import told_as, why, worst_block
from tests.helpers.sessions import RATE, bus, card, cards_for, session, setting, track, use

BLOCK = 256 / RATE
LINEAR = Weights(freeze=1.0, source=0.7, suspend=0.3, lighten=0.6, disk=0.0)


def small(rng: random.Random) -> tuple[Session, dict]:
    """Three or four tracks with clips here and there, a variant of one plugin, and cards."""
    strips = []
    for t in range(rng.randint(2, 3)):
        start = rng.uniform(0, 4)
        plugins = tuple(use(f"p{rng.randint(0, 3)}", f"t{t}/{k}") for k in range(rng.randint(1, 2)))
        instrument = use("synth", f"t{t}/synth", voices=2) if rng.random() < 0.4 else None
        end = start + rng.uniform(2, 5)
        clips = (Clip(start, end),)
        if instrument is not None and rng.random() < 0.5:
            clips = (Clip(start, end, "notes", voices=((start, 1), (start + 1, 2))),)
        strips.append(
            Strip(f"t{t}", f"Track {t}", "track", instrument, plugins, (), rng.choice(("b", "main")), clips=clips)
        )
    of = session(*strips, bus("b", "p0"), length=10.0)
    keys = of.card_keys()
    costs = {
        key: card(uses[0], rng.uniform(0.05, 0.35) * BLOCK, rng.uniform(0, 0.1) * BLOCK) for key, uses in keys.items()
    }
    curve = Polyphony(RATE, 256, (1, 2), (0.6, 1.0))
    costs = {k: msgspec.structs.replace(c, polyphony=(curve,)) if k.voices else c for k, c in costs.items()}
    if rng.random() < 0.5:  # some plugins may stand once for several
        costs = {k: msgspec.structs.replace(c, truth=Truth(linear_db=-120.0)) for k, c in costs.items()}
    first = next(iter(keys))
    variant = Variant(first, "light", setting(q=0))
    lighter = variant.applied(keys[first][0])
    costs[lighter.card_key()] = card(lighter, 0.02 * BLOCK, 0.01 * BLOCK)
    return msgspec.structs.replace(of, variants=(variant,)), costs


def worst(of: Session, plan: Plan, cards: dict, machine: Machine) -> float:
    return float(load_map(prepare(apply(of, plan).session, cards), machine, 256).load.max())


def clash(taken) -> bool:
    """Whether something would be decided about a plugin that is shared."""
    shared = {d.strip: d.use for c in taken if c.decision.kind == "share" for d in c.decisions()}
    for c in taken:
        first, d = shared.get(c.decision.strip), c.decision
        if first is None or d.kind == "share":
            continue
        if d.kind == "freeze" and place_in_chain(first) <= d.through:
            return True
        if d.kind == "lighten" and (d.use == first or place_in_chain(first) <= place_in_chain(d.use)):
            return True
    return False


def place_in_chain(use_id: str) -> int:
    """Tracks of `small` name their inserts by place; an instrument comes before them, a bus has one plugin."""
    last = use_id.rsplit("/", 1)[1]
    return int(last) if last.isdigit() else -1


def cheapest(found, of, cards, machine, limit) -> float | None:
    """The least price of all sets of decisions that keep the limit, by trying every one."""
    best = None
    for chosen in itertools.product((False, True), repeat=len(found)):
        taken = [c for c, is_in in zip(found, chosen, strict=True) if is_in]
        price = sum(c.price for c in taken)
        if best is not None and price >= best - 1e-9:
            continue
        subjects = [d.subject for c in taken for d in c.decisions()]
        if len(set(subjects)) < len(subjects) or clash(taken):
            continue
        plan = Plan(tuple(d for c in taken for d in c.decisions()))
        if worst(of, plan, cards, machine) <= limit + 1e-9:
            best = price
    return best


def hosted(of: Session, rng: random.Random) -> Session:
    """The same session in a host that divides blocks, reads ahead of an armed track, or goes by the list."""
    host = Host(
        0, 0.01 * BLOCK, 0.002 * BLOCK, rng.choice((0, 1024)), listed=rng.random() < 0.3, parts=rng.choice((1, 2, 4))
    )
    armed = rng.randrange(2)
    strips = tuple(
        msgspec.structs.replace(s, armed=k == armed and host.read_ahead > 0) for k, s in enumerate(of.strips)
    )
    return msgspec.structs.replace(of, strips=strips, host=host)


@pytest.mark.parametrize("seed", range(240))
def test_on_small_sessions_no_set_of_decisions_is_cheaper(seed):
    rng = random.Random(seed)
    of, cards = small(rng)
    if seed >= 120:
        of = hosted(of, rng)
    machine = Machine(rng.randint(1, 3))
    before = survey(of, Plan(), cards, machine, 256)
    limit = float(before.after.load.max()) * rng.uniform(0.4, 1.05)
    wishes = Wishes(limit, LINEAR)
    found = candidates(before, wishes)
    if len(found) > 11:
        pytest.skip("too many decisions to try all sets of them")
    made = suggest(before, wishes)
    best = cheapest(found, of, cards, machine, limit)
    assert made.reached == (best is not None)
    assert made.load == pytest.approx(worst(of, made.plan, cards, machine))
    if best is not None:
        assert made.load <= limit + 1e-9
        assert made.price == pytest.approx(best)
        assert made.least <= best + 1e-6


@pytest.mark.parametrize("seed", range(30))
def test_no_single_step_can_be_left_out(seed):
    rng = random.Random(1000 + seed)
    of, cards = small(rng)
    machine = Machine(rng.randint(1, 3))
    before = survey(of, Plan(), cards, machine, 256)
    limit = float(before.after.load.max()) * rng.uniform(0.5, 0.95)
    made = suggest(before, Wishes(limit, LINEAR))
    if not made.reached:
        return
    for step in made.steps:
        rest = Plan(tuple(d for d in made.plan.decisions if d not in step.decisions()))
        assert worst(of, rest, cards, machine) > limit


def test_what_is_pinned_stays_and_kinds_that_are_not_allowed_are_not_taken():
    of = session(track("a", "p", "p"), track("b", "p"), track("c", "p"))
    cards = cards_for(of, {"p": 0.3 * BLOCK})
    before = survey(of, Plan(), cards, Machine(1), 256)
    made = suggest(before, Wishes(0.8, LINEAR, frozenset({"a"})))
    assert {d.strip for d in made.plan.decisions} == {"b", "c"}
    none = suggest(before, Wishes(0.8, LINEAR, kinds=("suspend",)))
    assert not none.reached
    assert none.load == pytest.approx(1.2)


def test_when_nothing_reaches_the_limit_it_says_what_comes_closest_and_why():
    of = session(track("a", "p", armed=True), track("b", "p", output="c"), bus("c", "p"))
    cards = cards_for(of, {"p": 0.5 * BLOCK})
    made = suggest(survey(of, Plan(), cards, Machine(1), 256), Wishes(0.5, LINEAR))
    assert not made.reached
    assert made.load == pytest.approx(1.0)
    assert [d.strip for d in made.plan.decisions if d.kind == "freeze"] == ["b"]
    assert "100 % is the lowest" in made.obstacle or "100.0 % is the lowest" in made.obstacle


def test_decisions_taken_by_hand_stay_and_are_not_paid_for_again():
    of = session(*(track(name, "p") for name in "abc"))
    cards = cards_for(of, {"p": 0.4 * BLOCK})
    by_hand = Plan((Decision("freeze", "a"),))
    made = suggest(survey(of, by_hand, cards, Machine(1), 256), Wishes(0.5, LINEAR))
    assert made.plan.decisions[0] == by_hand.decisions[0]
    assert len(made.steps) == 1
    assert made.price == pytest.approx(1.0)


def test_a_lighter_setting_is_taken_where_it_is_enough():
    of = session(track("a", "p"), track("b", "q"))
    key = of.strip("a").inserts[0].card_key()
    variant = Variant(key, "quality off", setting(quality=0))
    of = msgspec.structs.replace(of, variants=(variant,))
    lighter = variant.applied(of.strip("a").inserts[0])
    cards = cards_for(of, {"p": 0.6 * BLOCK, "q": 0.5 * BLOCK}) | {lighter.card_key(): card(lighter, 0.1 * BLOCK)}
    made = suggest(survey(of, Plan(), cards, Machine(1), 256), Wishes(0.7, LINEAR))
    assert made.plan.decisions == (Decision("lighten", "a", "a/p", variant="quality off"),)
    assert made.load == pytest.approx(0.6)
    assert made.steps[0].words == "Lighten p on a: quality off: worst 110 % → 60 %"


def test_suspending_counts_only_where_there_is_silence():
    of = session(track("a", "p", clips=((0, 5),)), track("b", "p", clips=((5, 10),)))
    cards = cards_for(of, {"p": 0.6 * BLOCK})
    made = suggest(survey(of, Plan(), cards, Machine(1), 256), Wishes(0.7, LINEAR))
    assert {(d.kind, d.strip) for d in made.plan.decisions} == {("suspend", "a"), ("suspend", "b")}


def test_the_alternatives_keep_their_promise():
    rng = random.Random(5)
    of = session(*(track(f"t{k}", "p", *(["q"] * rng.randint(0, 2))) for k in range(8)), host=Host(0, 1e-6))
    cards = cards_for(of, {"p": 0.2 * BLOCK, "q": 0.1 * BLOCK})
    found = alternatives(survey(of, Plan(), cards, Machine(2), 256), Wishes(0.8, PRESETS["balanced"]))
    assert set(found) == {"least given up", "fewest decisions", "most headroom"}
    assert found["most headroom"].load <= 0.7 + 1e-9
    assert found["least given up"].price <= found["most headroom"].price
    assert len(found["fewest decisions"].steps) <= len(found["least given up"].steps)


def test_a_plugin_without_a_figure_saves_nothing():
    of = session(track("a", "p"), track("b", "unknown"))
    cards = cards_for(of, {"p": 1.2 * BLOCK})
    assert isinstance(next(iter(cards.values())), CostCard)
    made = suggest(survey(of, Plan(), cards, Machine(1), 256), Wishes(0.8, LINEAR))
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
        "it takes 60 % of one core in the worst block in Storm (0:03); heard in 40 % of the piece"
    )
    both = [Decision("share", "a", "a/p", into="x"), Decision("share", "b", "b/q", into="x")]
    assert why(found, worst_block(found), both).startswith("the 2 take 110 % of one core")
    made = suggest(found, Wishes(0.7, LINEAR))
    assert made.steps[0].why == why(found, worst_block(found), made.steps[0].decisions())
