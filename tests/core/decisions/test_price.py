"""Prices in minutes, kind by kind, worked out by hand from what they are said to be built of."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.cards.card import Null, Truth
from nimbleload.core.decisions.apply import KINDS
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.decisions.kind import Asked
from nimbleload.core.decisions.off import changes_nothing
from nimbleload.core.decisions.price import Terms, Weights, sound_minutes, total
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import Variant
from tests.helpers.sessions import cards_for, session, setting, track, use

OF = session(track("a", "p", "q", "r"), track("b", "p"))
# At the largest blocks, in which a render runs, p takes half of what its share would be.
LARGEST = 4096
CARDS = {
    key: msgspec.structs.replace(
        card,
        cells=tuple(
            msgspec.structs.replace(c, mean=c.mean / 2) if c.buffer == LARGEST and key.identifier == "p" else c
            for c in card.cells
        ),
    )
    for key, card in cards_for(OF, {"p": 1e-3, "q": 2e-3, "r": 4e-3}, tail=3.0).items()
}


def price(decision: Decision, of=OF, cards=CARDS, weights: Weights | None = None, **more):
    terms = Terms(of, cards, Machine(2), more.pop("plan", Plan()), weights or Weights(), **more)
    return KINDS[decision.kind].price(terms, decision)


def rendered(*seconds: float) -> float:
    """Minutes to render ten seconds of audio, from costs at 4096 samples (seconds a block)."""
    return 10 * sum(seconds) / (LARGEST / 48000) / 60


P, Q, R = 8e-3, 32e-3, 64e-3
DISK = 10 * 48000 * 2 * 4 / 1e8


@pytest.mark.parametrize(("through", "costs"), [(None, (P, Q, R)), (0, (P,)), (1, (P, Q))])
@pytest.mark.parametrize(("standing", "returns"), [("done", 0), ("normal", 1), ("in work", 5)])
def test_a_freeze_costs_its_render_what_is_locked_and_coming_back(through, costs, standing, returns):
    plan = Plan(done=("a",) * (standing == "done"), in_work=("a",) * (standing == "in work"))
    found = price(Decision("freeze", "a", through=through), plan=plan)
    once = rendered(*costs)
    assert found.minutes == pytest.approx(once + returns * (0.2 + once) + 0.1 * len(costs) + 0.1 * DISK)
    dearer = price(Decision("freeze", "a", through=through), weights=Weights(rendering=2.0, locked=0.3), plan=plan)
    assert dearer.minutes - found.minutes == pytest.approx(once * (1 + returns) + 0.2 * len(costs))


@pytest.mark.parametrize(("depth", "minutes"), [
    (None, 1.0), (-90, 0.0), (-60, 0.0), (-50, 0.5), (-40, 1.0), (-30, 3.0), (-20, 5.0), (0, 5.0),
])  # fmt: skip
def test_another_sound_costs_by_what_a_null_test_leaves(depth, minutes):
    assert sound_minutes(depth) == pytest.approx(minutes)


@pytest.mark.parametrize(
    ("depth", "nearly", "sound"), [(-120.0, 0, 0), (-80.0, 1.0, 0), (-50.0, 0, 0.5), (None, 0, 1.0)]
)
def test_sharing_costs_a_bus_a_little_for_each_track_and_its_sound(depth, nearly, sound):
    shared = {key: msgspec.structs.replace(card, truth=Truth(linear_db=depth)) for key, card in CARDS.items()}
    members = [Decision("share", strip, f"{strip}/{name}", into="x") for strip, name in (("a", "r"), ("b", "p"))]
    found = total(price(member, cards=shared) for member in members)
    assert found.minutes == pytest.approx(0.5 + 2 * 0.1 + nearly + sound)


def test_a_lighter_setting_costs_its_sound_once_and_a_little_for_each():
    light = Variant(OF.strip("a").inserts[0].card_key(), "light", setting(size=1.0))
    of = msgspec.structs.replace(OF, variants=(light,))
    members = [Decision("lighten", strip, f"{strip}/p", variant="light") for strip in ("a", "b")]
    key = light.applied(OF.strip("a").inserts[0]).card_key()
    full = light.of
    compared = msgspec.structs.replace(CARDS[full], key=key, nulls=(Null(full.setting, full.voices, -30.0),))
    known = CARDS | {key: compared}
    one, both = price(members[0], of, known), total(price(m, of, known) for m in members)
    assert one.minutes == pytest.approx(0.02 + 0.5 + 3.0)
    assert both.minutes == pytest.approx(2 * 0.02 + 0.5 + 3.0)
    assert price(members[0], of).minutes == pytest.approx(0.02 + 0.5 + 1.0)
    recorded = total(price(m, of, known, tracking=True) for m in members)
    assert recorded.minutes == pytest.approx(2 * 0.02 + 0.5)
    gone = Decision("lighten", "a", "a/p", variant="another")
    assert price(gone, of).minutes == 0
    assert KINDS["lighten"].change(of.strip("a"), gone, of) == of.strip("a")
    lighter = KINDS["lighten"].change(of.strip("a"), members[0], of)
    assert [u.setting for u in lighter.inserts] == [setting(size=1.0), setting(), setting()]


def test_only_what_is_set_so_can_be_lightened():
    """A variant stands for one setting of one plugin; another one of it, or another plugin, is not offered it."""
    other = msgspec.structs.replace(use("p", "c/p"), setting=setting(size=9.0))
    of = session(*OF.strips, msgspec.structs.replace(track("c"), inserts=(other,)))
    light = Variant(OF.strip("a").inserts[0].card_key(), "light", setting(size=1.0))
    of = msgspec.structs.replace(of, variants=(light,))
    offered = {strip.id: [o.decision.use for o in KINDS["lighten"].options(strip, Asked(of))] for strip in of.strips}
    assert offered == {"a": ["a/p"], "b": ["b/p"], "c": [], "main": []}


def test_suspending_off_outboard_and_disarming():
    # Its tail of 20 s is longer than the ten for which the host waits.
    long = {key: msgspec.structs.replace(card, tail=20.0) for key, card in CARDS.items()}
    assert price(Decision("suspend", "a"), cards=long).minutes == pytest.approx(3.0)
    short = {key: msgspec.structs.replace(card, tail=0.1) for key, card in CARDS.items()}
    assert price(Decision("suspend", "a"), cards=short).minutes == pytest.approx(0.1)
    assert price(Decision("off", "a", "a/p")).minutes == pytest.approx(0.1 + 5.0)
    assert price(Decision("off", "a", "a/p"), tracking=True).minutes == pytest.approx(0.1)
    idle = {key: msgspec.structs.replace(card, truth=Truth(idle=True)) for key, card in CARDS.items()}
    assert price(Decision("off", "a", "a/p"), cards=idle).minutes == pytest.approx(0.02 + 0.1)
    # What is automated does something in the piece, if not as it is set.
    assert changes_nothing(use("p"), idle)
    assert not changes_nothing(msgspec.structs.replace(use("p"), automated=True), idle)
    assert price(Decision("outboard", "a", "a/p")).minutes == pytest.approx(1.0)
    assert price(Decision("disarm", "a")).minutes == pytest.approx(2.0)
