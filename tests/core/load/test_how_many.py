"""How many more fit: against trying every count, and what is said of it."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.load.case import case
from nimbleload.core.load.how_many import Fit, how_many, of_plugin, of_strips, unmeasured
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session import edits
from nimbleload.core.session.chain_edits import place_fader
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.told.how_many import beyond_words, not_known, sentence
from tests.helpers.sessions import bus, cards_for, session, track, use


@pytest.fixture
def mix():
    """Two tracks on a bus and one beside it, a plugin on each."""
    return session(
        track("a", "pa", output="bus"), track("b", "pb", output="bus"), track("c", "pc"), bus("bus", "pd")
    )  # fmt: skip


def costs(mix, **each):
    """Costs a block of 256 samples, in microseconds; in proportion at other sizes."""
    return cards_for(mix, {name: micro * 1e-6 for name, micro in each.items()})


USUAL = {"pa": 120, "pb": 160, "pc": 80, "pd": 60}


def loads(mix, cards, machine, copies, buffer, most):
    return [
        float(load_map(case(prepare(copies(count), cards), machine, buffer)).load.max()) for count in range(most + 1)
    ]


@pytest.mark.parametrize("ids", [["a"], ["a", "c"], ["bus"]])
@pytest.mark.parametrize("buffer", [64, 256])
def test_so_many_fit_and_one_more_does_not(mix, ids, buffer):
    cards = costs(mix, **USUAL)
    copies, machine = of_strips(mix, ids), Machine(2)
    (fit,) = how_many(mix, cards, machine, copies, 0.8, (buffer,))
    tried = loads(mix, cards, machine, copies, buffer, fit.more + 1)
    assert fit.more > 0
    assert (fit.now, fit.load, fit.beyond) == pytest.approx((tried[0], tried[fit.more], tried[fit.more + 1]))
    assert fit.load <= 0.8 < fit.beyond


def test_a_plugin_is_tried_alone_on_tracks_of_its_own(mix):
    cards = costs(mix, **USUAL)
    copies = of_plugin(mix, mix.strip("b").inserts[0].id)
    made = copies(3)
    new = [strip for strip in made.strips if strip.id not in {s.id for s in mix.strips}]
    assert [len(strip.uses()) for strip in new] == [1, 1, 1] and {strip.output for strip in new} == {"bus"}
    assert all(strip.clips == mix.strip("b").clips for strip in new)
    (fit,) = how_many(mix, cards, Machine(1), copies, 0.8, (64,))
    # On one core everything comes one after the other.
    free = 0.8 * 256 / 48000 - 420e-6
    assert fit.more == int(free / 160e-6)
    on_main = of_plugin(mix, mix.strip("bus").inserts[0].id)(1)
    assert on_main.strips[3].output == "main"


def test_none_fit_beyond_the_limit_and_not_more_than_are_tried(mix):
    cards = costs(mix, pa=6000, pb=1, pc=1, pd=1)
    (fit,) = how_many(mix, cards, Machine(2), of_strips(mix, ["a"]), 0.8, (64,))
    assert fit.more == 0 and fit.load == fit.now > 0.8 and fit.beyond > fit.now
    cheap = costs(mix, pa=0.001, pb=0.001, pc=0.001, pd=0.001)
    (fit,) = how_many(mix, cheap, Machine(2), of_strips(mix, ["a"]), 0.8, (4096,), most=5)
    assert (fit.more, fit.beyond) == (5, None)


def test_a_load_just_at_the_limit_fits(mix):
    cards, machine, copies = costs(mix, **USUAL), Machine(1), of_strips(mix, ["a"])
    for count in (1, 2, 3, 5):
        limit = loads(mix, cards, machine, copies, 256, count)[count]
        (fit,) = how_many(mix, cards, machine, copies, limit, (256,))
        assert (fit.more, fit.load) == (count, limit)
        # Whether or not that is as many as are tried at all.
        for most in (count, count + 1):
            (fit,) = how_many(mix, cards, machine, copies, limit, (256,), most=most)
            assert fit.more == count and (fit.beyond is None) == (most == count)


def test_an_instrument_is_copied_as_one():
    synth = use("synth", "t/synth", family="instrument", voices=2)
    of = session(Strip("t", "T", instrument=synth, inserts=(use("eq", "t/eq"),), output="main", clips=(Clip(0, 5),)))
    new = next(strip for strip in of_plugin(of, "t/synth")(1).strips if strip.id not in ("t", "main"))
    assert new.instrument.plugin == synth.plugin and new.inserts == ()
    new = next(strip for strip in of_plugin(of, "t/eq")(1).strips if strip.id not in ("t", "main"))
    assert new.instrument is None and [each.label for each in new.inserts] == ["eq"]


def test_no_more_are_tried_than_a_session_can_have(mix, monkeypatch):
    cheap = costs(mix, pa=0.001, pb=0.001, pc=0.001, pd=0.001)
    monkeypatch.setattr("nimbleload.core.load.how_many.MOST_STRIPS", len(mix.strips) + 3)
    (fit,) = how_many(mix, cheap, Machine(2), of_strips(mix, ["a"]), 0.8, (4096,))
    assert (fit.more, fit.beyond) == (3, None)
    monkeypatch.setattr("nimbleload.core.load.how_many.MOST_STRIPS", len(mix.strips))
    (fit,) = how_many(mix, cheap, Machine(2), of_strips(mix, ["a"]), 0.8, (4096,))
    assert (fit.more, fit.beyond, fit.load) == (0, None, fit.now)


def test_a_plugin_alone_has_nothing_else_of_its_track(mix):
    live = edits.arm(mix, ["b"], True)
    live = place_fader(live, "b", 1)
    known = {strip.id for strip in live.strips}
    new = [strip for strip in of_plugin(live, live.strip("b").inserts[0].id)(2).strips if strip.id not in known]
    assert [s.name for s in new] == ["pb 1", "pb 2"]
    assert all((s.armed, s.post_fader, s.sends, s.frozen_through) == (False, 0, (), None) for s in new)


def test_stopping_ends_with_what_was_found(mix):
    cards = costs(mix, **USUAL)
    asked = []
    found = how_many(
        mix, cards, Machine(2), of_strips(mix, ["a"]), 0.8, (64, 128, 256),
        cancelled=lambda: len(asked) >= 2 or bool(asked.append(1)),
    )  # fmt: skip
    assert [fit.buffer for fit in found] == [64, 128]


def test_copies_without_figures_are_named(mix):
    cards = costs(mix, pa=120, pc=80, pd=60)
    assert unmeasured(mix, cards, of_strips(mix, ["a"])) == []
    named = unmeasured(mix, cards, of_strips(mix, ["bus"]))
    assert named == [mix.strip("b").inserts[0].label]
    assert "counted as nothing" in not_known(named) and not_known([]) == ""


def test_the_sentence_says_what_was_computed():
    def fit(buffer, more, now=0.5, load=0.78, beyond=0.83):
        return Fit(buffer, more, now, load, beyond)

    assert sentence([fit(128, 2), fit(256, 5)], "Pad", 0.8, 128) == (
        "2 more of Pad fit under 80 % at 128 samples (78 %); one more takes 83 %. At 256 samples 5 fit."
    )
    assert (beyond_words(0.83, 0.8), beyond_words(0.8016, 0.8)) == ("83 %", "80.16 %")
    assert sentence([fit(128, 0, load=0.5)], "Pad", 0.8, 128).startswith("Not one more of Pad fits under 80 %")
    over = sentence([fit(128, 0, now=1.2, load=1.2)], "Pad", 0.8, 128)
    assert over.startswith("No room for one more Pad") and "120 %" in over and "No other buffer size" in over
    assert "or more still" in sentence([fit(128, 256, beyond=None)], "Pad", 0.8, 128)


def test_what_is_copied_is_what_duplicating_makes(mix):
    made = of_strips(mix, ["bus"])(2)
    assert made == edits.duplicate(mix, ["bus"], 2, members=True)
    assert of_strips(mix, ["bus"])(0) is mix
    assert msgspec.structs.replace(made, strips=()) == msgspec.structs.replace(mix, strips=())
