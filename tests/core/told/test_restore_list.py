"""The restore list: everything that the plan took away, and nothing else."""

from __future__ import annotations

import msgspec

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import Variant
from nimbleload.core.told.restore_list import left_words, restore_list
from tests.helpers.sessions import session, setting, track, use


def test_every_decision_has_its_way_back_in_session_order():
    of = session(track("a", "p"), track("b", "p", "q"), track("c", armed=True))
    of = msgspec.structs.replace(of, variants=(Variant(use("p").card_key(), "light", setting(q=0)),))
    plan = Plan((
        Decision("disarm", "c"), Decision("lighten", "b", "b/p", variant="light"), Decision("off", "b", "b/q"),
        Decision("suspend", "b"), Decision("freeze", "a"), Decision("off", "gone"),
    ))  # fmt: skip
    assert restore_list(of, plan) == [
        "Unfreeze a, or render from the freeze if nothing before it has changed.",
        "Let b run through, so that no tail is cut.",
        "Set p on b back: as it starts.",
        "Switch q on b on again.",
        "Arm c again if it is to be recorded.",
    ]
    assert restore_list(of, Plan()) == []


def test_how_much_is_left_is_said_in_a_sentence():
    assert left_words([], []) == ""
    assert left_words(["a"], []) == "1 thing to put back before the render (B shows it)."
    assert left_words(["a", "b", "c"], ["b", "gone"]) == "2 things to put back before the render (B shows them)."
    assert left_words(["a"], ["a"]).startswith("All that was to be put back")


def test_what_many_tracks_share_is_put_back_by_one_line_for_each_setting():
    of = session(*(track(name, "verb") for name in "abcd"))
    other = use("verb", "d/verb", setting=setting(time=2))
    of = msgspec.structs.replace(of, strips=tuple(
        msgspec.structs.replace(strip, inserts=(other,)) if strip.id == "d" else strip for strip in of.strips
    ))  # fmt: skip
    shared = [Decision("share", name, f"{name}/verb", into="s") for name in "abc"]
    plan = Plan((*shared, Decision("share", "d", "d/verb", into="s", like="x")))
    assert restore_list(of, plan) == [
        "Put verb back on 3 tracks, unless one for all is how it shall sound (a, b, c).",
        "Put verb on d back on its own track, set as it was: time 2.",
    ]


def test_all_that_was_shared_is_named_and_chains_that_only_begin_alike_have_lines_of_their_own():
    of = session(*(track(name, "amp", "eq", "verb") for name in "ab"), *(track(name, "amp", "comp") for name in "cd"))
    shared = [Decision("share", name, f"{name}/amp", into="s" if name in "ab" else "t") for name in "abcd"]
    assert restore_list(of, Plan(tuple(shared))) == [
        "Put amp, eq and verb back on 2 tracks, unless one for all is how it shall sound (a, b).",
        "Put amp and comp back on 2 tracks, unless one for all is how it shall sound (c, d).",
    ]
    assert restore_list(of, Plan((shared[0],))) == [
        "Put amp, eq and verb on a back on its own track, unless one for all is how it shall sound.",
    ]


def test_what_is_off_or_suspended_on_many_tracks_is_put_back_by_one_line():
    of = session(*(track(name, "meter", "eq") for name in "abc"), track("d", "meter", "meter"))
    twice = tuple(msgspec.structs.replace(each, id=f"d/{k}") for k, each in enumerate(of.strip("d").inserts))
    of = msgspec.structs.replace(of, strips=tuple(
        msgspec.structs.replace(strip, inserts=twice) if strip.id == "d" else strip for strip in of.strips
    ))  # fmt: skip
    off = [Decision("off", name, f"{name}/meter") for name in "abc"]
    assert restore_list(of, Plan((*off, Decision("off", "b", "b/eq"), Decision("suspend", "a")))) == [
        "Let a run through, so that no tail is cut.",
        "Switch meter on 3 tracks on again (a, b, c).",
        "Switch eq on b on again.",
    ]
    suspended = [Decision("suspend", name) for name in "abc"]
    assert restore_list(of, Plan((*suspended, *(Decision("off", "d", f"d/{k}") for k in range(2))))) == [
        "Let 3 tracks run through, so that no tail is cut (a, b, c).",
        "Switch meter on d on again.",
    ]
