"""How many notes sound when, and what instruments cost by it: against counting on a grid, and closed forms."""

from __future__ import annotations

import itertools
import random

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import Cell, Polyphony
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.peaks import bad_loads, drawn_costs
from nimbleload.core.load.prepared import prepare
from nimbleload.core.optimise.candidates import Wishes, candidates
from nimbleload.core.optimise.rows import Rows
from nimbleload.core.piece.moments import FEWER, FULL, SILENT, cut
from nimbleload.core.piece.notes import bars, counted, held
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.session.routing import build
from nimbleload.core.session.session import TempoPoint, Timing
from nimbleload.core.session.strips import Clip, within
from nimbleload.core.survey import instant, ranked, survey, with_plan
from tests.helpers.sessions import RATE, cards_for, random_cards, random_session, session, track, use

BARS = np.arange(0.0, 14.0, 2.0)  # four beats at 120


def keys(*profile, voices=8, clips=((0.0, 10.0),), plugins=(), **more):
    """A track with an instrument that plays by this profile."""
    strip = track("keys", *plugins, **more)
    made = tuple(Clip(a, b, "notes", voices=within(profile, a, b)) for a, b in clips)
    return msgspec.structs.replace(strip, instrument=use("synth", "keys/synth", voices=voices), clips=made)


def polyphonic(cards, voices=8, at_one=0.125):
    """The cards, with the instrument's cost on a straight line over its notes."""
    points = tuple(range(1, voices + 1))
    rise = [at_one + (1 - at_one) * (n - 1) / (voices - 1) for n in points]
    curve = Polyphony(RATE, 256, points, tuple(1e-3 * r for r in rise))
    return {k: msgspec.structs.replace(c, polyphony=(curve,) if k.voices else ()) for k, c in cards.items()}


def test_bar_lines_follow_the_tempo():
    tempo = (TempoPoint(0.0, 120.0), TempoPoint(8.0, 60.0))
    assert bars(Timing(tempo), 11.0).tolist() == [0.0, 2.0, 4.0, 8.0, 12.0]
    assert bars(Timing(tempo), 0.0).tolist() == [0.0]


@pytest.mark.parametrize("seed", range(10))
def test_counting_agrees_with_looking_at_every_hundredth_of_a_second(seed):
    rng = random.Random(seed)
    notes = [(a, a + rng.choice([0.0, 0.5, 1.0, 3.7])) for a in (round(rng.uniform(0, 10), 2) for _ in range(20))]
    profile = counted(notes, BARS)
    grid = np.arange(0.005, BARS[-1], 0.01)
    sounding = sum(((grid >= a) & (grid < b)).astype(int) for a, b in notes)
    for k, start in enumerate(BARS[:-1]):
        inside = (grid > start) & (grid < BARS[k + 1])
        (_, count), *_ = within(profile, start, start + 2)
        assert count == sounding[inside].max()
    assert all(a[1] != b[1] for a, b in itertools.pairwise(profile))


def test_notes_that_end_where_others_begin_do_not_sound_together():
    assert counted([(0, 1), (1, 2), (2, 3)], BARS) == ((0.0, 1), (4.0, 0))


def test_a_clip_takes_its_part_of_the_profile():
    profile = ((0.0, 2), (4.0, 5), (8.0, 0))
    assert within(profile, 3.0, 6.0) == ((3.0, 2), (4.0, 5))
    assert within(profile, 8.0, 9.0) == ((8.0, 0),)
    assert within((), 1.0, 2.0) == ((1.0, 0),)
    strip = keys(*profile, clips=((3.0, 6.0), (7.0, 9.0)))
    assert held(strip) == [(3.0, 4.0, 2), (4.0, 6.0, 5), (7.0, 8.0, 5)]


def test_moments_end_where_an_instrument_plays_more_or_fewer_notes():
    of = session(keys((0.0, 2), (4.0, 8), (6.0, 0)), track("b"))
    moments = cut(of, build(of), {})
    assert moments.times.tolist() == [0.0, 4.0, 6.0, 10.0]
    assert moments.notes == (2,)
    assert moments.states[:, 0].tolist() == [FEWER, FULL, SILENT]
    assert moments.states[:, 1].tolist() == [FULL] * 3
    assert np.array_equal(moments.distinct[moments.of], moments.states)


def test_notes_let_go_count_until_the_bar_line_after_their_tail_and_an_effect_rings_on_without_any():
    of = session(keys((0.0, 2), (4.0, 0), voices=2, plugins=("hall",)), length=12.0)
    cards = cards_for(of, {"synth": 1e-3, "hall": 1e-4})
    tails = {"synth": 0.5, "hall": 3.0}
    cards = {k: msgspec.structs.replace(c, tail=tails[k.identifier]) for k, c in cards.items()}
    moments = cut(of, build(of), cards)
    assert moments.times.tolist() == [0.0, 6.0, 7.5, 12.0]
    assert moments.notes == (0,)
    assert moments.states[:, 0].tolist() == [FULL, FEWER, SILENT]


def test_an_instrument_costs_by_its_notes_and_its_inserts_as_ever():
    of = session(keys((0.0, 1), (2.0, 4), (4.0, 8), (6.0, 0), plugins=("eq", "hall")), host=Host(0, 1e-5, 0))
    cards = polyphonic(cards_for(of, {"synth": 1e-3, "eq": 1e-4, "hall": 2e-4}, silent=5e-5))
    cards = {k: msgspec.structs.replace(c, tail=1.5 if k.identifier == "hall" else None) for k, c in cards.items()}
    prepared = prepare(of, cards)
    loads = load_map(case(prepared, Machine(1), 256))
    # The strips' own work, and then: notes, inserts; while the hall rings on the instrument is silent.
    bare, inserts = 2e-5, 3e-4
    expected = [0.125e-3 + inserts, 0.5e-3 + inserts, 1e-3 + inserts, 5e-5 + inserts, 3 * 5e-5]
    assert loads.times.tolist() == [0.0, 2.0, 4.0, 6.0, 7.5, 10.0]
    assert (loads.load * loads.deadline).tolist() == pytest.approx([bare + each for each in expected])


def test_between_sizes_and_notes_the_curve_is_read_on_the_line_and_more_notes_never_cost_less():
    of = session(keys((0.0, 3)))
    card = next(iter(cards_for(of, {"synth": 1e-3}).values()))
    small = Polyphony(RATE, 256, (1, 4, 8), (2.0, 1.0, 4.0))
    large = Polyphony(RATE, 1024, (1, 4, 8), (1.0, 2.0, 2.0))
    card = msgspec.structs.replace(card, polyphony=(large, small))
    assert card.with_notes(RATE, 256, (4,))[0] == 0.5
    assert card.with_notes(RATE, 256, (6,))[0] == 0.75
    assert card.with_notes(RATE, 1024, (1,))[0] == 0.5
    assert card.with_notes(RATE, 512, (6,))[0] == pytest.approx((0.75 + 1.0) / 2)
    assert card.with_notes(RATE, 32, (6,))[0] == card.with_notes(96000, 256, (6,))[0] == 0.75
    assert card.with_notes(RATE, 256, (20,))[0] == 1.0
    assert msgspec.structs.replace(card, polyphony=()).with_notes(RATE, 256, (1,))[0] == 1.0


def test_where_cost_against_notes_or_the_notes_are_not_known_it_costs_in_full():
    cards = cards_for(session(keys((0.0, 1))), {"synth": 1e-3}, silent=1e-5)
    for of, known in (
        (session(keys((0.0, 1))), cards),
        (session(msgspec.structs.replace(keys(), clips=(Clip(0, 10, "notes"),))), polyphonic(cards)),
        (session(keys((0.0, 1), armed=True)), polyphonic(cards)),
    ):
        loads = load_map(case(prepare(of, known), Machine(1), 256))
        assert (loads.load * loads.deadline).tolist() == pytest.approx([1e-3] * len(loads.load))


def test_the_other_figures_follow_the_notes_too():
    of = session(keys((0.0, 1), (2.0, 4), (4.0, 8), (6.0, 0), plugins=("eq",)), track("b", "eq"))
    cards = polyphonic(cards_for(of, {"synth": 1e-3, "eq": 1e-4}, silent=5e-5))
    found = survey(of, Plan(), cards, Machine(2), 256)
    each, moments = found.case, found.planned.moments
    for second, notes, synth in ((1.0, 1, 0.125e-3), (3.0, 4, 0.5e-3), (5.0, 8, 1e-3), (8.0, 0, 5e-5)):
        at = instant(found, second)
        assert at.notes.tolist() == [notes, 0, 0]
        assert at.use_costs["keys/synth"] == pytest.approx(synth)
        assert sum(at.use_costs.values()) == pytest.approx(at.strip_costs.sum())
        assert sum(each.provenance(at.states).values()) == pytest.approx(1.0)
    whole = ranked(found, instant(found, 1.0), "piece")
    mean = np.diff(moments.times) @ each.rows(moments.states) / 10.0
    assert whole.strips == pytest.approx(mean)
    assert whole.uses["keys/synth"] == pytest.approx((2 * 0.125e-3 + 2 * 0.5e-3 + 2 * 1e-3 + 4 * 5e-5) / 10)
    assert ranked(found, instant(found, 1.0), "peak").uses["keys/synth"] == pytest.approx(1e-3)
    assert ranked(found, instant(found, 1.0), "piece", (2.0, 4.0)).uses["keys/synth"] == pytest.approx(0.5e-3)


def test_bursts_shrink_with_the_notes():
    of = session(keys((0.0, 2), (4.0, 8)))
    sequence = np.tile([200_000, 1_800_000], 64).astype("<i4").tobytes()
    cell = Cell(RATE, 256, "sounding", 1e-3, sequence=sequence)
    cards = polyphonic(cards_for(of, {"synth": 1e-3}), at_one=0.125)
    cards = {k: msgspec.structs.replace(c, cells=(cell,)) for k, c in cards.items()}
    each = case(prepare(of, cards), Machine(1), 256)
    spans = []
    for states in each.moments.states:
        rows, _ = drawn_costs(each, states, 400, 1)
        assert rows.mean(axis=0) == pytest.approx(each.rows(states))
        spans.append(np.ptp(rows[:, 0]))
    assert spans == pytest.approx([0.25 * 1.6e-3, 1.6e-3])
    bad = bad_loads(each)
    assert bad * 256 / RATE == pytest.approx([0.25 * 1.8e-3, 1.8e-3])


def test_random_sessions_hold_instruments_with_fewer_notes():
    fewer = 0
    for seed in range(20):
        rng = random.Random(seed)
        of = random_session(rng)
        fewer += bool(prepare(of, random_cards(rng, of)).moments.notes)
    assert fewer >= 12


@pytest.mark.parametrize("seed", range(8))
def test_what_a_decision_saves_is_the_difference_that_it_makes_in_every_state(seed):
    rng = random.Random(seed)
    of = random_session(rng, tracks=4)
    found = survey(of, Plan(), random_cards(rng, of), Machine(2), 256)
    before = found.case
    made = [c for c in candidates(found, Wishes()) if c.kind not in ("share", "lighten")]
    rows = Rows(found, made)
    for number, candidate in enumerate(made):
        after = case(with_plan(found, Plan().with_all(candidate.decisions)), found.machine, 256)
        assert np.array_equal(after.moments.states, before.moments.states)
        for kind, states in enumerate(before.moments.distinct):
            now = before.rows(states).sum() - after.rows(states).sum()
            beside = before.beside(states).sum() - after.beside(states).sum()
            assert rows.work(kind).saves[number] == pytest.approx((now + beside) / 2, abs=1e-12)
