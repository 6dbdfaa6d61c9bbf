"""What to mind of a plan, in words."""

from __future__ import annotations

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import survey
from nimbleload.core.told.warnings import together, warnings
from tests.helpers.sessions import bus, cards_for, session, track


def test_what_is_the_same_of_three_tracks_or_more_is_told_once_where_the_first_of_them_stood():
    no_effect = "what is decided about p has no effect"
    said = ["w: x", f"a: {no_effect}", "b: x", f"c: {no_effect}", "The plan speaks of nobody.", f"d: {no_effect}"]
    once = f"a, c, d: {no_effect}"
    assert together(said) == ["w: x", once, "b: x", "The plan speaks of nobody."]
    assert together([f"{name}: {no_effect}" for name in "abcde"]) == [f"a, b, c and 2 more: {no_effect}"]
    assert together(said[:4]) == said[:4]
    # Three plugins of one name on a track are one track.
    assert together([f"{name}: {no_effect}" for name in "aaabbb"]) == [f"a: {no_effect}", f"b: {no_effect}"]


def test_freezes_of_tracks_with_plugins_that_are_off_are_minded_in_one_sentence():
    of = session(*(track(name, "p") for name in "abcd"), bus("main", "m", kind="main", output=None))
    decisions = [d for name in "abcd" for d in (Decision("freeze", name), Decision("off", name, f"{name}/p"))]
    plan = Plan().with_all(decisions)
    told = warnings(survey(of, plan, cards_for(of, {"p": 1e-4, "m": 1e-5}), Machine(2), 256))
    assert [each for each in told if "has no effect" in each] == [
        "a, b, c and 1 more: what is decided about p has no effect while the freeze holds it: two decisions exclude "
        "each other."
    ]
