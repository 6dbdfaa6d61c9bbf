"""Beats to seconds, against closed forms and plain numerical integration."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest

from nimbleload.core.session.session import SessionError, TempoPoint
from nimbleload.core.session.tempo import TempoMap


def test_a_steady_tempo_is_a_straight_line():
    assert TempoMap([TempoPoint(0, 90)]).seconds(30) == pytest.approx(20.0)


def test_steps_add_up():
    steps = TempoMap([TempoPoint(0, 60), TempoPoint(10, 120), TempoPoint(20, 30)])
    assert steps.seconds(10) == pytest.approx(10)
    assert steps.seconds(20) == pytest.approx(15)
    assert steps.seconds(22) == pytest.approx(19)


@pytest.mark.parametrize("beat", [0.0, 3.7, 8.0, 15.9, 16.0, 30.0])
def test_a_glide_equals_the_integral_of_the_beats_length(beat):
    points = [TempoPoint(0, 80, True), TempoPoint(16, 140), TempoPoint(24, 100)]
    at = np.linspace(0, beat, 200_001)
    bpm = np.interp(at, [0, 16], [80, 140])
    bpm[at >= 16] = 140
    bpm[at >= 24] = 100
    assert TempoMap(points).seconds(beat) == pytest.approx(np.trapezoid(60 / bpm, at), abs=2e-3)


def test_before_the_first_point_its_tempo_holds():
    late = TempoMap([TempoPoint(8, 120), TempoPoint(16, 60)])
    assert late.seconds(4) == pytest.approx(2)
    assert late.seconds(8) == pytest.approx(4)
    assert late.seconds(18) == pytest.approx(10)


def test_time_only_grows():
    of = TempoMap([TempoPoint(0, 60, True), TempoPoint(7, 200, True), TempoPoint(9, 40)])
    seconds = [of.seconds(b) for b in np.linspace(-2, 20, 400)]
    assert all(a < b for a, b in pairwise(seconds))


@pytest.mark.parametrize("bpm", [0.0, -10.0, float("nan"), float("inf")])
def test_an_impossible_tempo_is_refused(bpm):
    with pytest.raises(SessionError, match="not possible"):
        TempoMap([TempoPoint(0, bpm)])


def test_it_is_steady_where_the_pace_is_the_same_at_every_moment_between():
    glide = TempoMap([TempoPoint(4, 120, ramp=True), TempoPoint(8, 60), TempoPoint(12, 60, ramp=True)])
    moments = [k / 4 for k in range(60)]
    for first in moments:
        for last in (each for each in moments if each >= first):
            paces = {glide.pace(each) for each in moments if first <= each <= last}
            # Two points of the same tempo may be taken for a change, never a change for none.
            assert len(paces) == 1 or not glide.is_steady(first, last)
    assert glide.is_steady(0, 1.75) and glide.is_steady(5.5, 8.0) and glide.is_steady(11, 1e6)
    assert not glide.is_steady(2.5, 2.75) and not glide.is_steady(0, 2.25)


def test_the_pace_is_how_fast_beats_go_by():
    """Against the beats themselves: a small step before and after each second."""
    of = TempoMap([TempoPoint(0.0, 90.0), TempoPoint(6.0, 180.0, True), TempoPoint(18.0, 60.0), TempoPoint(20.0, 60.0)])
    for second in (0.0, 1.0, 3.9, 4.5, 6.0, 8.0, 11.0, 13.0, 40.0):
        step = 1e-6
        assert of.pace(second) == pytest.approx((of.beat(second + step) - of.beat(second)) / step * 60, rel=1e-4)
    assert of.pace(4.0) == 180.0  # the sixth beat: from here on
    late = TempoMap([TempoPoint(4.0, 100.0), TempoPoint(8.0, 50.0)])
    assert late.pace(0.0) == late.pace(2.0) == 100.0
