"""What a load rests on: every share of it that was not measured here, and how much may be the work of others."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.basis import AS_ON_ALIKE, OF_OTHERS, basis
from tests.helpers.sessions import cards_for, session, track

OF = session(track("a", "eq"), track("b", "verb"))


def told(**changes):
    """What is said of two plugins, of which the second, three times as dear, has cells with these changes."""
    cards = cards_for(OF, {"eq": 1e-4, "verb": 3e-4})
    key = OF.strips[1].inserts[0].card_key()
    cells = tuple(msgspec.structs.replace(cell, **changes) for cell in cards[key].cells)
    cards[key] = msgspec.structs.replace(cards[key], cells=cells)
    at = instant(survey(OF, Plan(), cards, Machine(2), 256))
    return basis(at), basis(at, all_of_it=True)


def test_only_what_was_not_measured_here_is_told_unless_all_of_it_is_wanted():
    here, all_of_it = told(provenance="sample")
    assert here == [("75 %", "sample figures, not from this computer")]
    assert all_of_it == [("25 %", "measured on this computer"), *here]
    assert told()[0] == []


def test_what_may_be_the_work_of_others_is_told_by_its_share_of_the_load():
    """A figure that may be 1.5 times too high is three quarters of the cost: a third of those is a quarter of all."""
    here, all_of_it = told(quiet=False, shared=1.5)
    assert here == [("up to 25 %", OF_OTHERS)]
    assert all_of_it == [("100 %", "measured on this computer"), *here]
    assert told(quiet=False, shared=1.02)[0] == []
    assert told(quiet=True, shared=1.5)[0] == []


def test_on_cores_that_are_not_alike_it_is_told_what_was_not_measured_on_such():
    cards = cards_for(OF, {"eq": 1e-4, "verb": 3e-4})
    for machine in (Machine(8, second=4), Machine(8, slow=2)):
        at = instant(survey(OF, Plan(), cards, machine, 256))
        assert basis(at) == [("100 %", AS_ON_ALIKE)] and at.as_on_alike == 1
        for known in ({"others": 3}, {"paired": 1.01}, {"slower": 1.01}):
            key = OF.strips[1].inserts[0].card_key()
            up = msgspec.structs.replace(cards[key].upkeep, **known)
            some = {**cards, key: msgspec.structs.replace(cards[key], upkeep=up)}
            share = instant(survey(OF, Plan(), some, machine, 256)).as_on_alike
            assert share == pytest.approx(0.25, abs=0.01)
    assert basis(instant(survey(OF, Plan(), cards, Machine(8), 256))) == []
