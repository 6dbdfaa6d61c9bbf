"""Plans go along when their session is edited: by hand, for every way in which a chain can change."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.decisions.after_edit import after_edit
from nimbleload.core.decisions.decision import Decision, Plan
from tests.helpers.sessions import session, track, use


def inserts(strip, *names):
    return msgspec.structs.replace(strip, inserts=tuple(use(name, f"a/{name}") for name in names))


BEFORE = session(track("a", "eq", "comp", "verb"), track("b", "eq"))


def kept(decision, *names, instrument=None, was_instrument=None):
    """What is left of a decision about track a when its chain is another one."""
    old, other, main = BEFORE.strips
    old = msgspec.structs.replace(old, instrument=was_instrument)
    before = msgspec.structs.replace(BEFORE, strips=(old, other, main))
    new = msgspec.structs.replace(inserts(old, *names), instrument=instrument)
    after = msgspec.structs.replace(BEFORE, strips=(new, other, main))
    return after_edit(Plan((decision,)), before, after).decisions


def freeze(through):
    return Decision("freeze", "a", through=through)


@pytest.mark.parametrize(
    ("through", "names", "place"),
    [
        (1, ("comp", "eq", "verb"), 1),  # eq and comp have changed places: both are still taken in
        (0, ("comp", "eq", "verb"), 1),
        (1, ("new", "eq", "comp", "verb"), 2),
        (1, ("eq", "verb"), 0),
        (2, ("eq", "comp"), 1),
        (1, ("eq", "comp", "verb"), 1),
    ],
)
def test_a_freeze_up_to_a_plugin_goes_on_to_the_same_one_or_the_one_before(through, names, place):
    assert kept(freeze(through), *names) == (freeze(place),)


def test_a_freeze_of_the_whole_chain_stays_one_whatever_is_in_it():
    assert kept(freeze(None), "new", "verb") == (freeze(None),)
    assert kept(freeze(None)) == (freeze(None),)


def test_nothing_is_left_of_a_freeze_whose_plugins_are_all_gone():
    assert kept(freeze(0), "comp", "verb") == ()
    assert kept(freeze(1), "verb") == ()


def test_a_freeze_of_the_source_goes_with_the_instrument():
    keys = use("keys", "a/keys")
    assert kept(freeze(-1), "comp", instrument=keys, was_instrument=keys) == (freeze(-1),)
    assert kept(freeze(-1), "comp", was_instrument=keys) == ()
    assert kept(freeze(-1), "comp") == (freeze(-1),)


def test_what_speaks_of_what_is_gone_is_dropped_and_the_rest_stays():
    plan = Plan(
        (Decision("off", "a", "a/eq"), Decision("off", "a", "a/comp"), Decision("freeze", "b"), freeze(2)),
        pinned=("a", "b"), done=("b",), in_work=("a",),
    )  # fmt: skip
    left = msgspec.structs.replace(BEFORE, strips=(inserts(BEFORE.strips[0], "comp"), BEFORE.strips[2]))
    found = after_edit(plan, BEFORE, left)
    assert found.decisions == (Decision("off", "a", "a/comp"), freeze(0))
    assert (found.pinned, found.done, found.in_work) == (("a",), (), ("a",))


def test_a_plugin_that_moved_to_another_track_is_switched_off_there():
    one, other, main = BEFORE.strips
    moved = msgspec.structs.replace(other, inserts=(*other.inserts, one.inserts[1]))
    after = msgspec.structs.replace(BEFORE, strips=(inserts(one, "eq", "verb"), moved, main))
    found = after_edit(Plan((Decision("off", "a", "a/comp"),)), BEFORE, after)
    assert found.decisions == (Decision("off", "b", "a/comp"),)
    model = Plan((Decision("share", "b", "b/eq", into="bus", like="a/eq"),))
    assert after_edit(model, BEFORE, after).decisions == model.decisions
    gone = msgspec.structs.replace(BEFORE, strips=(inserts(one, "comp"), other, main))
    assert after_edit(model, BEFORE, gone).decisions[0].like is None
