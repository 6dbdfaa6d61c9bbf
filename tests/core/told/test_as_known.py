"""What has no figure counts as nothing, and is never kept back."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import survey
from nimbleload.core.told.as_known import fits_words, is_unknown, load_words, share_words, takes_words, use_words
from nimbleload.core.told.plans import plan_words
from tests.helpers.sessions import cards_for, session, track


def surveyed(costs, plan=Plan()):  # noqa: B008
    of = session(track("one", "a"), track("two", "b"))
    cards = {key: card for key, card in cards_for(of, {"a": 0.001, "b": 0.001}).items() if key.identifier in costs}
    return survey(of, plan, cards, Machine(2), 256)


@pytest.mark.parametrize(
    ("costs", "load", "fits"),
    [
        ("ab", "19 %", "It fits as it is."),
        ("a", "at least 19 %", "As far as is known it fits as it is: 1 plugin has no figure and counts as nothing."),
        ("", "not known", "Nothing is measured yet: whether it fits is not known."),
    ],
)
def test_a_load_is_said_as_far_as_it_is_known(costs, load, fits):
    of = surveyed(costs)
    assert (of.known, of.missing) == (len(costs), 2 - len(costs))
    assert is_unknown(of) is (costs == "")
    assert load_words(of, 0.19) == load and fits_words(of) == fits
    found = plan_words(of, suggest(of))
    assert found.startswith(fits if costs == "" else load) and ("→" in found) is (costs != "")


def test_what_a_plan_switches_off_is_not_missed():
    of = surveyed("a", Plan((Decision("off", "two"),)))
    assert (of.known, of.missing) == (1, 0) and load_words(of, 0.1) == "10 %"


@pytest.mark.parametrize(
    ("lacking", "words", "brief"),
    [((), "12 %", "12 %"), (("a/q",), "at least 12 %", "≥12 %"), (("a/p", "a/q"), "not known", "—"),
     (("b/p",), "12 %", "12 %")],
)  # fmt: skip
def test_what_a_track_takes_is_told_as_far_as_it_is_known(lacking, words, brief):
    # What is off or frozen in it takes nothing, whatever it would.
    one = msgspec.structs.replace(track("a", "f", "p", "q"), frozen_through=0)
    assert share_words(one, lacking, 0.12) == words
    assert share_words(one, {*lacking, "a/f"}, 0.12, brief=True) == brief
    assert share_words(track("a"), lacking, 0.0) == "0.0 %"


def test_what_several_take_and_what_a_plugin_takes_is_told_as_far_as_it_is_known():
    of = surveyed("a")
    one, two = of.session.strips[:2]
    assert takes_words([one], of.lacking, 0.19) == "19 % of one core"
    assert takes_words([one, two], of.lacking, 0.19) == "at least 19 % of one core"
    assert takes_words([two], of.lacking, 0.02) == "cost not known"
    assert [use_words(of, use, 0.001) for strip in (one, two) for use in strip.uses()] == ["1000 µs  19 %", "not known"]
    # What is off has a figure or none all the same.
    off = surveyed("a", Plan((Decision("off", "two"),)))
    assert [use_words(off, use, 0.001) for use in off.planned.session.strips[1].uses()] == ["not known"]
