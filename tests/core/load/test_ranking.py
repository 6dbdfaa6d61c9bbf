"""What tracks cost at the moment, at their own peak and over a stretch; and the load of a stretch."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.ranking import stretch_load
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, ranked, survey
from tests.helpers.sessions import bus, cards_for, session, track


@pytest.fixture
def of():
    made = session(
        track("early", "eq", clips=((0, 4),)), track("late", "dear", clips=((5, 10),)),
        bus("main", kind="main", output=None),
    )  # fmt: skip
    known = cards_for(made, {"eq": 1e-3, "dear": 6e-3}, silent=1e-4, tail=0.0)
    return survey(made, Plan(), known, Machine(1), 256)


def test_the_moment_shows_what_sounds_there(of):
    found = ranked(of, instant(of, 1.0), "moment")
    assert found.strips == pytest.approx([1e-3, 1e-4, 0])
    assert found.uses == {"early/eq": pytest.approx(1e-3), "late/dear": pytest.approx(1e-4)}


def test_the_peak_shows_each_at_its_dearest_whatever_the_moment(of):
    found = ranked(of, instant(of, 4.5), "peak")
    assert found.strips == pytest.approx([1e-3, 6e-3, 0])
    assert found.uses["late/dear"] == pytest.approx(6e-3)


def test_the_piece_shows_the_mean_over_time_and_a_stretch_that_of_its_own(of):
    at = instant(of, 1.0)
    whole = ranked(of, at, "piece")
    assert whole.strips == pytest.approx([0.4 * 1e-3 + 0.6 * 1e-4, 0.5 * 6e-3 + 0.5 * 1e-4, 0])
    part = ranked(of, at, "piece", (3.0, 6.0))
    assert part.strips == pytest.approx([(1e-3 + 2 * 1e-4) / 3, (6e-3 + 2 * 1e-4) / 3, 0])
    assert part.uses["early/eq"] == pytest.approx(part.strips[0])


def test_the_load_of_a_stretch(of):
    late = stretch_load(of.after, (3.0, 7.0))
    block = 256 / 48000
    assert late.highest == pytest.approx(6.1e-3 / block)
    assert late.late == pytest.approx(2.0)
    assert late.mean == pytest.approx((1.1e-3 + 2e-4 + 2 * 6.1e-3) / 4 / block)
    assert stretch_load(of.after, (20.0, 30.0)) == (0.0, 0.0, 0.0)


def test_plugins_cost_what_they_do_while_cores_slow_each_other_down():
    made = session(track("a", "p"), track("b", "p"))
    known = {
        key: msgspec.structs.replace(card, upkeep=msgspec.structs.replace(card.upkeep, beside=1.5))
        for key, card in cards_for(made, {"p": 1e-3}).items()
    }
    found = survey(made, Plan(), known, Machine(2), 256)
    at = ranked(found, instant(found, 1.0), "moment")
    assert at.strips[:2] == pytest.approx([1.5e-3] * 2)
    assert at.uses == {"a/p": pytest.approx(1.5e-3), "b/p": pytest.approx(1.5e-3)}
