"""What is worked out of a moment while others wait: it can be ended in the middle."""

from __future__ import annotations

import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.outlook import band, outlook
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.session import MACHINE, session


class EndedError(Exception):
    pass


@pytest.fixture(scope="module")
def of():
    return survey(session(), Plan(), sample_cards(), MACHINE, 256)


@pytest.mark.parametrize("name", ["outlook", "band"])
def test_who_asks_is_asked_now_and_then_whether_to_go_on(of, name):
    at, asked = instant(of), []

    def find(go_on):
        return outlook(of, at, go_on) if name == "outlook" else band(of, go_on)

    find(lambda: asked.append(1))
    often = len(asked)
    assert often > 5
    for call in (1, often // 2, often):
        asked.clear()

        def go_on(call=call):
            asked.append(1)
            if len(asked) == call:
                raise EndedError

        with pytest.raises(EndedError):
            find(go_on)
        assert len(asked) == call
