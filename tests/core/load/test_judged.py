"""What stands in the way, and by how much, of blocks that can be worked out by hand."""

from __future__ import annotations

import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.judged import Rung, judge
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


def rungs(*loads, late=()):
    """A ladder from 64 samples on."""
    return [Rung(64 << k, load, load, load, 0.0, "", is_late=(64 << k) in late) for k, load in enumerate(loads)]


@pytest.mark.parametrize(
    ("loads", "place", "late", "larger", "too_late"),
    [
        # Smaller buffers that fit are no way out; of larger ones the next that fits is.
        ((0.5, 0.5, 1.2, 0.9, 0.7, 0.6), 2, (), 1024, None),
        ((0.5, 0.5, 1.2, 0.9, 0.9, 0.9), 2, (), None, None),
        # One that is late is named only where none is in time.
        ((1.3, 1.2, 1.2, 0.8, 0.7, 0.6), 2, (512,), 1024, None),
        ((1.3, 1.2, 1.2, 0.8, 0.7, 0.6), 2, (512, 1024, 2048), None, 512),
        ((1.3, 1.2, 0.8), 2, (), None, None),
    ],
)
def test_the_buffer_that_would_fit_is_the_next_larger_one(loads, place, late, larger, too_late):
    ladder = rungs(*loads, late=late)
    found = judge(ladder[place], 0.8, 2, 0, 1, 0.0, ladder)
    assert (found.larger.buffer if found.larger else None) == larger
    assert (found.late.buffer if found.late else None) == too_late


def test_without_a_single_figure_nothing_is_known_and_with_one_it_is_judged():
    (rung,) = rungs(1.5)
    assert judge(rung, 0.8, 2, 3, 0, 0.0).kind == "unknown" and not judge(rung, 0.8, 2, 3, 0, 0.0).is_overload
    assert judge(rung, 0.8, 2, 3, 1, 0.0).kind == "work" and judge(rung, 0.8, 2, 3, 1, 0.0).is_overload
    assert judge(rung, 0.8, 2, 0, 0, 0.0).kind == "work"
