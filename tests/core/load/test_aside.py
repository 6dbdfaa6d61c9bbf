"""What plugins' own threads compute is work, too: blocks that can be worked out by hand."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.peaks import draw
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.verdict import verdict
from tests.helpers.sessions import RATE, cards_for, session, track

BLOCK = 256 / RATE


def aside(of, costs, shares, **more):
    """Cards that cost so much of a block, and compute so many times that much on threads of their own."""
    found = cards_for(of, {name: share * BLOCK for name, share in costs.items()}, **more)
    return {
        key: msgspec.structs.replace(card, cells=tuple(
            msgspec.structs.replace(cell, aside=cell.mean * shares.get(key.identifier, 0.0)) for cell in card.cells
        ))
        for key, card in found.items()
    }  # fmt: skip


def load(of, cards, cores, plan=None):
    at = survey(of, plan or Plan(), cards, Machine(cores), 256)
    return float(at.after.load.max())


@pytest.mark.parametrize(("cores", "expected"), [(1, 0.8), (2, 0.4), (4, 0.2), (16, 0.2)])
def test_it_takes_whatever_core_is_free(cores, expected):
    # A fifth of the block on its own thread, three fifths on others.
    of = session(track("t", "p"))
    assert load(of, aside(of, {"p": 0.2}, {"p": 3.0}), cores) == pytest.approx(expected)


def test_beside_other_tracks_all_must_fit():
    # Two tracks of 30 % on two cores take 30 %; with 50 % more beside one of them, (30 + 30 + 50) / 2.
    of = session(track("a", "p"), track("b", "q"))
    cards = aside(of, {"p": 0.3, "q": 0.3}, {"p": 5 / 3})
    assert load(of, cards, 2) == pytest.approx(0.55)
    # Three cores have room enough for it.
    assert load(of, cards, 3) == pytest.approx((0.3 + 0.3 + 0.5) / 3)


def test_a_freeze_takes_it_away_and_a_plan_finds_that():
    of = session(track("a", "p"), track("b", "q"))
    cards = aside(of, {"p": 0.3, "q": 0.3}, {"p": 4.0})
    assert load(of, cards, 2) == pytest.approx(0.9)
    assert load(of, cards, 2, Plan((Decision("freeze", "a"),))) == pytest.approx(0.3)
    found = suggest(survey(of, Plan(), cards, Machine(2), 256))
    assert found.reached and [d.strip for d in found.plan.decisions] == ["a"]


def test_the_verdict_calls_it_work():
    of = session(track("a", "p"), track("b", "q"))
    found = survey(of, Plan(), aside(of, {"p": 0.3, "q": 0.3}, {"p": 4.0}), Machine(2), 256)
    at = instant(found)
    assert "Plugins' own threads compute 120 % of one core of it." in verdict(found, at).advice
    assert at.judged.kind == "work" and at.judged.over == pytest.approx(0.1)
    assert at.rung(256).spread == pytest.approx(0.9)


def test_in_silence_and_asleep_it_is_what_was_measured_there():
    of = session(track("a", "p", clips=((0.0, 5.0),)), length=10.0)
    cards = aside(of, {"p": 0.2}, {"p": 3.0}, silent=0.05 * BLOCK, tail=0.0)
    loads = survey(of, Plan(), cards, Machine(1), 256).after.load
    assert sorted(set(np.round(loads, 9))) == [pytest.approx(0.2), pytest.approx(0.8)]
    asleep = session(track("a", "p", clips=((0.0, 5.0),), suspended=True), length=10.0)
    loads = survey(asleep, Plan(), cards, Machine(1), 256).after.load
    assert sorted(set(np.round(loads, 9))) == [0.0, pytest.approx(0.8)]


def test_peaks_count_it_in_every_drawn_block():
    of = session(track("t", "p"))
    at = survey(of, Plan(), aside(of, {"p": 0.2}, {"p": 3.0}), Machine(1), 256).case
    found = draw(at, at.moments.states[0])
    assert found.bad == pytest.approx(0.8) and found.typical == pytest.approx(0.8)


def test_between_sizes_the_nearest_ones_share_counts():
    of = session(track("t", "p"))
    at = survey(of, Plan(), aside(of, {"p": 0.2}, {"p": 3.0}), Machine(1), 300).case
    assert load_map(at).load.max() == pytest.approx(0.8, rel=1e-6)
