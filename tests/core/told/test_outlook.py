"""What is worked out of a moment while others wait: it can be ended in the middle."""

from __future__ import annotations

import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.optimise.steps import stepped
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.outlook import band, outlook
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.session import MACHINE, session


class EndedError(Exception):
    pass


@pytest.fixture(scope="module")
def of():
    whole = session()
    frozen = [strip.id for strip in whole.strips if strip.kind == "track" and strip.inserts and not strip.armed][:8]
    return survey(whole, Plan(tuple(Decision("freeze", each) for each in frozen)), sample_cards(), MACHINE, 256)


@pytest.mark.parametrize("find", [lambda of, go_on: outlook(of, instant(of), go_on), band, stepped])
def test_who_asks_is_asked_now_and_then_whether_to_go_on(of, find):
    asked = []
    find(of, lambda: asked.append(1))
    often = len(asked)
    assert often > 5
    for call in (1, often // 2, often):
        asked.clear()

        def go_on(call=call):
            asked.append(1)
            if len(asked) == call:
                raise EndedError

        with pytest.raises(EndedError):
            find(of, go_on)
        assert len(asked) == call
