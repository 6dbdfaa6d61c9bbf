"""How good a plan is, in words that claim no more than was proven."""

from __future__ import annotations

import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.optimise.suggest import Suggestion
from nimbleload.core.told.steps import how_good


@pytest.mark.parametrize(
    ("least", "said"),
    [
        (4.0, "No plan gives up less."), (3.999999, "No plan gives up less."), (3.99, "No plan gives up 0.5 % less."),
        (3.6, "Another plan may give up less, but by 0.4 min at most (10 %)."),
    ],
)  # fmt: skip
def test_it_claims_what_was_proven(least, said):
    assert how_good(Suggestion(Plan(), (), 0.8, 4.0, least, True, False, None, ())) == said
