"""Sentences, each from figures that call for it."""

from __future__ import annotations

import pytest

from nimbleload.core.decisions.plan import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, survey
from nimbleload.core.units import clock, milliseconds, percent
from tests.helpers.sessions import bus, cards_for, session, track

DEADLINE = 256 / 48000


def verdict(of, costs, cores):
    found = survey(of, Plan(), cards_for(of, {k: v * DEADLINE for k, v in costs.items()}), Machine(cores), 256)
    return instant(found).verdict


def test_one_long_chain_is_named_and_cores_are_said_not_to_help():
    of = session(track("Choir", "synth", output="Hall"), track("Bell", "eq"), bus("Hall", "verb"))
    said = verdict(of, {"synth": 0.9, "verb": 0.5, "eq": 0.1}, 4)
    assert said.kind == "chain"
    assert said.overload
    assert "Choir → Hall" in said.advice
    assert "more cores do not help" in said.advice
    assert "140 %" in said.headline


def test_too_much_work_says_how_much_must_go():
    of = session(*(track(f"t{k}", "eq") for k in range(40)))
    said = verdict(of, {"eq": 0.1}, 3)
    assert said.kind == "work"
    assert "133 %" in said.advice
    assert "160 % of a core must go" in said.advice  # 4.0 cores of work, 0.8 × 3 allowed


def test_on_one_core_all_is_work():
    said = verdict(session(track("a", "eq"), track("b", "eq")), {"eq": 0.6}, 1)
    assert said.kind == "work"
    assert "40 % of the deadline must go" in said.advice


def test_waiting_names_what_must_run_at_the_end():
    of = session(
        *(track(f"t{k}", "eq", output="Band") for k in range(8)),
        bus("Band", "comp"),
        bus("main", "limit", kind="main", output=None),
    )
    said = verdict(of, {"eq": 0.3, "comp": 0.3, "limit": 0.2}, 4)
    assert said.kind == "waiting"
    assert "Band → Main" not in said.headline
    assert "Band → main" in said.advice
    assert "50 % of the deadline" in said.advice or "80 % of the deadline" in said.advice


def test_what_fits_says_how_much_stays_free():
    said = verdict(session(track("a", "eq")), {"eq": 0.3}, 2)
    assert said.kind == "fits"
    assert not said.overload
    assert "70 % of the deadline stays free" in said.advice


def test_between_limit_and_deadline_is_tight_not_overloaded():
    said = verdict(session(track("a", "eq")), {"eq": 0.9}, 1)
    assert said.headline.startswith("Tight")
    assert not said.overload


def test_nothing_measured_is_not_a_load_of_nothing():
    said = verdict(session(track("a", "eq"), track("b", "comp")), {}, 2)
    assert said.kind == "unknown"
    assert "2 plugins have no figure" in said.advice


def test_nothing_measured_gives_no_buffer_size_a_good_word():
    found = survey(session(track("a", "eq")), Plan(), {}, Machine(2), 256)
    assert {rung.word for rung in instant(found).rungs} == {"not known"}


def test_what_is_missing_is_counted_beside_a_load():
    said = verdict(session(track("a", "eq"), track("b", "comp")), {"eq": 0.1}, 2)
    assert "1 plugin has no figure and counts as nothing" in said.advice


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (1.31, "131 %"),
        (0.0995, "10 %"),
        (0.074, "7.4 %"),
        (0, "0.0 %"),
        (0.996, "99.6 %"),
        (1.0, "100 %"),
        (1.004, "100.4 %"),
    ],
)
def test_loads_are_written_with_the_digits_that_matter(value, text):
    assert percent(value) == text


@pytest.mark.parametrize(("value", "text"), [(134.4, "2:14"), (0, "0:00"), (59.99, "0:59"), (3725, "62:05")])
def test_positions_are_minutes_and_seconds(value, text):
    assert clock(value) == text


@pytest.mark.parametrize(("value", "text"), [(0.00533, "5.33 ms"), (0.0107, "10.7 ms"), (0.171, "171 ms")])
def test_short_times_have_three_digits(value, text):
    assert milliseconds(value) == text
