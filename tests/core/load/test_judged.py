"""What stands in the way, and by how much, of blocks that can be worked out by hand."""

from __future__ import annotations

import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, survey
from tests.helpers.sessions import RATE, cards_for, session, track

BLOCK = 256 / RATE


@pytest.mark.parametrize(("tracks", "cores", "share", "kind", "over"), [
    # Three on two cores: one core has two of them. Evenly spread it would be three quarters of that.
    (3, 2, 0.5, "waiting", 1.0 - 0.8),
    # One alone takes 90 % however many cores there are.
    (1, 2, 0.9, "chain", 0.9 - 0.8),
    # Four on two cores, in pairs: all work is in the way.
    (4, 2, 0.6, "work", 1.2 - 0.8),
    (3, 1, 0.3, "work", 0.9 - 0.8),
    (2, 2, 0.5, "fits", 0.0),
])  # fmt: skip
def test_what_is_over_is_by_how_much_the_bound_in_the_way_exceeds_the_limit(tracks, cores, share, kind, over):
    of = session(*(track(f"t{k}", "p") for k in range(tracks)))
    at = instant(survey(of, Plan(), cards_for(of, {"p": share * BLOCK}), Machine(cores), 256))
    assert of.limit == pytest.approx(0.8)
    assert (at.judged.kind, at.judged.over) == (kind, pytest.approx(over))
