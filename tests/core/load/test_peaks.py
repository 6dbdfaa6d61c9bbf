"""Peaks: closed forms for bursts that can be counted, and the same figures from the same seed."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import Polyphony
from nimbleload.core.cards.summary import summarise
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.peaks import bad_loads, draw, drawn_costs
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, prediction, survey
from nimbleload.core.told.outlook import band, outlook
from tests.helpers.sessions import RATE, cards_for, session, track, use

BLOCK = 256 / RATE


def bursty(of, ordinary: float, burst: float, period: int, name: str = "p"):
    """A card whose blocks cost `ordinary` seconds, and `burst` in every so manieth."""
    cards = cards_for(of, {name: 1e-6})
    key = next(k for k in cards if k.identifier == name)
    own = np.full(64 * period, round(ordinary * 1e9))
    own[period - 1 :: period] = round(burst * 1e9)
    cells = tuple(summarise(own[None, :], True, RATE, 256, c) for c in ("sounding", "silent"))
    return {key: msgspec.structs.replace(cards[key], cells=cells)}


def at_peak(of, cards, cores=1, draws=4000):
    at = case(prepare(of, cards), Machine(cores), 256)
    return draw(at, at.moments.states[0], draws)


def test_what_is_kept_of_the_drawn_blocks_keeps_no_others():
    of = session(track("a", "p"))
    found = at_peak(of, bursty(of, 1e-3, 2e-3, 4))
    assert all(row.base is None for row in (found.typical_row, found.bad_row, found.worst_row))


def test_one_bursting_plugin_drops_out_as_often_as_it_bursts():
    of = session(track("a", "p"))
    found = at_peak(of, bursty(of, 0.5 * BLOCK, 1.5 * BLOCK, 16))
    assert found.typical == pytest.approx(0.5, rel=1e-3)
    assert found.bad == pytest.approx(1.5, rel=1e-3)
    assert found.worst == pytest.approx(1.5, rel=1e-3)
    per_minute = 60 / BLOCK / 16
    assert found.dropouts == pytest.approx(per_minute, rel=0.15)
    assert [b.use for b in found.bursts] == [0]


def test_blocks_that_nothing_interrupts_are_told_apart():
    """A tenth of its time goes to interruptions: with them every block is longer, or some are; without none is."""
    of = session(track("a", "p"))
    cards = bursty(of, 0.5 * BLOCK, 0.5 * BLOCK, 16)
    cards = {
        key: msgspec.structs.replace(each, cells=tuple(
            msgspec.structs.replace(cell, jitter=0.05 * BLOCK) for cell in each.cells
        )) for key, each in cards.items()
    }  # fmt: skip
    at = case(prepare(of, cards), Machine(1), 256)
    with_them, alone = (draw(at, at.moments.states[0], 4000, interrupted=way) for way in (True, False))
    assert (alone.typical, alone.bad, alone.worst) == pytest.approx((0.5, 0.5, 0.5), rel=1e-3)
    assert with_them.worst > 0.51 and with_them.bad >= with_them.typical >= alone.typical
    here = survey(of, Plan(), cards, Machine(1), 256)
    predicted = prediction(here, instant(here))
    assert (predicted.alone, predicted.alone_bad) == pytest.approx((0.5, 0.5), rel=1e-3)


def test_two_that_burst_at_the_same_pace_stay_in_step():
    of = session(track("a", "p"), track("b", "p"))
    found = at_peak(of, bursty(of, 0.1 * BLOCK, 0.7 * BLOCK, 8), draws=20_000)
    # Started together, they always burst in the same block: 1.4 of the deadline in every eighth, else 0.2.
    assert found.typical == pytest.approx(0.2, rel=1e-3)
    assert found.worst == pytest.approx(1.4, rel=1e-3)
    assert found.dropouts == pytest.approx(60 / BLOCK / 8, rel=0.1)


def test_two_of_different_pace_fall_together_where_their_periods_meet():
    of = session(track("a", "p"), track("b", "q"))
    cards = bursty(of, 0.1 * BLOCK, 0.7 * BLOCK, 8) | bursty(of, 0.1 * BLOCK, 0.7 * BLOCK, 6, "q")
    found = at_peak(of, cards, draws=20_000)
    # One alone makes 0.8; both burst in the last block of every 24.
    assert found.worst == pytest.approx(1.4, rel=1e-3)
    assert found.dropouts == pytest.approx(60 / BLOCK / 24, rel=0.15)


def test_what_never_varies_has_no_peaks_and_seeds_give_the_same_figures():
    of = session(track("a", "p"), track("b", "p"))
    steady = at_peak(of, bursty(of, 0.3 * BLOCK, 0.3 * BLOCK, 4))
    assert (steady.typical, steady.bad, steady.worst) == pytest.approx((0.6, 0.6, 0.6), rel=1e-3)
    assert steady.bursts == ()
    cards = bursty(of, 0.1 * BLOCK, 0.7 * BLOCK, 8)
    one, other = at_peak(of, cards), at_peak(of, cards)
    assert (one.typical, one.bad, one.worst, one.dropouts, one.bursts) == (
        other.typical, other.bad, other.worst, other.dropouts, other.bursts,
    )  # fmt: skip


def test_means_stay_those_of_the_load():
    of = session(track("a", "p"), track("b", "p"))
    cards = bursty(of, 0.1 * BLOCK, 0.7 * BLOCK, 8)
    at = case(prepare(of, cards), Machine(1), 256)
    rows, _ = drawn_costs(at, at.moments.states[0], 20_000, 3)
    assert rows.mean(axis=0)[:2] == pytest.approx(at.costs.by_state[1][:2])


def test_peaks_alone_get_a_verdict_of_their_own_with_who_bursts():
    of = session(track("a", "p"))
    found = survey(of, Plan(), bursty(of, 0.4 * BLOCK, 1.6 * BLOCK, 16), Machine(1), 256)
    at = instant(found)
    assert at.judged.kind == "fits"
    seen = outlook(found, at)
    assert seen.verdict.kind == "peaks"
    assert seen.verdict.overload
    assert "one block in a hundred takes 160 %" in seen.verdict.headline
    assert "dropouts a minute" in seen.verdict.advice
    assert " p on a bursts now and then." in seen.verdict.advice
    assert band(found).max() == pytest.approx(1.6, rel=1e-3)


def test_what_would_help_most_is_what_the_block_computation_says():
    of = session(track("a", "p"), track("b", "q"), track("c", "p"))
    cards = cards_for(of, {"p": 0.3 * BLOCK, "q": 0.6 * BLOCK})
    found = survey(of, Plan(), cards, Machine(1), 256)
    at = instant(found)
    best = outlook(found, at).help
    assert best is not None
    assert best.decisions[0].strip == "b"
    after = instant(survey(of, Plan(best.decisions), cards, Machine(1), 256))
    assert best.load == pytest.approx(after.rung(256).load)
    assert "What helps most at once: Freeze b (" in outlook(found, at).verdict.advice


@pytest.mark.parametrize(("period", "reached"), [(4, 1.5), (50, 1.5), (99, 1.5), (101, 0.5), (500, 0.5)])
def test_a_burst_is_what_one_block_in_a_hundred_reaches_if_it_comes_as_often(period, reached):
    of = session(track("a", "p"))
    at = case(prepare(of, bursty(of, 0.5 * BLOCK, 1.5 * BLOCK, period)), Machine(1), 256)
    assert bad_loads(at) == pytest.approx([reached], rel=1e-3)


def test_the_blocks_that_are_shown_have_the_loads_that_are_told():
    of = session(track("a", "p"), track("b", "q"))
    cards = bursty(of, 0.1 * BLOCK, 0.7 * BLOCK, 8) | bursty(of, 0.1 * BLOCK, 0.5 * BLOCK, 6, "q")
    found = at_peak(of, cards)
    for load, row in ((found.typical, found.typical_row), (found.bad, found.bad_row), (found.worst, found.worst_row)):
        assert row.sum() / BLOCK == pytest.approx(load, rel=1e-6)


def test_bursts_of_an_instrument_shrink_with_its_notes():
    """Half the cost with one of two notes: so are its bursts, beyond the mean."""
    clips = (Clip(0.0, 5.0, "notes", voices=((0.0, 2),)), Clip(5.0, 10.0, "notes", voices=((5.0, 1),)))
    strip = Strip("a", "a", instrument=use("synth", voices=2), output="main", clips=clips)
    of = session(strip)
    cards = bursty(of, 0.2 * BLOCK, 1.0 * BLOCK, 8, "synth")
    curve = Polyphony(RATE, 256, (1, 2), (1.0, 2.0))
    cards = {key: msgspec.structs.replace(card, polyphony=(curve,), tail=0.0) for key, card in cards.items()}
    at = case(prepare(of, cards), Machine(1), 256)
    by_load = dict(zip(np.round(at.played(at.moments.distinct).makespan / BLOCK, 3), bad_loads(at), strict=True))
    assert by_load == {0.3: pytest.approx(1.0, rel=1e-3), 0.15: pytest.approx(0.5, rel=1e-3)}


def test_blocks_that_are_all_different_are_drawn_by_the_dearest_and_by_groups():
    """A plugin whose every block takes another time: more kinds than are kept apart."""
    of = session(track("a", "p"))
    cards = cards_for(of, {"p": 1e-6})
    key = next(iter(cards))
    own = np.linspace(0.2 * BLOCK, 1.1 * BLOCK, 4096) * 1e9
    cells = tuple(summarise(own[None, :].round(), True, RATE, 256, c) for c in ("sounding", "silent"))
    varied = {key: msgspec.structs.replace(cards[key], cells=cells)}
    found = at_peak(of, varied, draws=4000)
    assert found.typical == pytest.approx(0.65, abs=0.02) and found.bad == pytest.approx(1.09, abs=0.01)
    assert found.worst == pytest.approx(1.1, abs=0.002)
    # All at once, in groups with the dearest apart, says the same.
    assert bad_loads(case(prepare(of, varied), Machine(1), 256))[0] == pytest.approx(found.bad, abs=0.03)
    # One in nine is longer than the deadline.
    assert found.dropouts == pytest.approx(60 / BLOCK / 9, rel=0.1)


def test_of_several_sequences_that_of_the_sessions_rate_and_nearest_size_is_taken():
    of = session(track("a", "p"))
    cards = cards_for(of, {"p": 1e-6})
    key = next(iter(cards))

    def cell(rate, buffer, burst):
        times = np.full(256, 0.2 * BLOCK * 1e9)
        times[15::16] = burst * BLOCK * 1e9
        return tuple(summarise(times[None, :].round(), True, rate, buffer, c) for c in ("sounding", "silent"))

    # Another rate comes first and is exactly as near; one of the session's rate is further away in size.
    cells = cell(2 * RATE, 256, 1.4) + cell(RATE, 1024, 1.9) + cell(RATE, 256, 0.9)
    found = at_peak(of, {key: msgspec.structs.replace(cards[key], cells=cells)})
    assert found.worst == pytest.approx(0.9, rel=0.05)
