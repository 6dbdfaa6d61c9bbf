"""When notes are told of what they do, against what a curve is at every sample."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.session.controllers import STEP
from nimbleload.core.session.curves import Curve, Point
from nimbleload.core.session.expressions import GAIN, KINDS, RANGES, TRANSPOSE, Expression, told
from tests.helpers.often import often

RATE = 1000
seconds = st.integers(0, 900).map(lambda sample: sample / RATE)
points = st.lists(st.tuples(seconds, st.floats(-150, 150), st.booleans()), min_size=1, max_size=6).map(
    lambda rows: tuple(Point(*row) for row in sorted(rows))
)


def value_at(of, sample):
    """What the curve has at a sample, point by point; None before the first."""
    before = [k for k, point in enumerate(of) if round(point.second * RATE) <= sample]
    if not before:
        return None
    here = of[before[-1]]
    if not here.ramp or before[-1] + 1 == len(of):
        return here.value
    following = of[before[-1] + 1]
    first, last = round(here.second * RATE), round(following.second * RATE)
    return here.value + (following.value - here.value) * (sample - first) / (last - first)


@settings(deadline=None, max_examples=often(35))
@given(points, st.integers(0, 600), st.integers(1, 300))
def test_a_note_knows_at_every_told_sample_what_the_curve_is(of, begin, length):
    at, values = told(Expression(TRANSPOSE, Curve(of)), RATE, begin, begin + length)
    assert all(begin <= sample < begin + length for sample in at) and all(np.diff(at) > 0)
    least, most = RANGES[TRANSPOSE]
    for sample, value in zip(at.tolist(), values.tolist(), strict=True):
        assert value == pytest.approx(np.clip(value_at(of, sample), least, most))
    # Whatever the curve is while the note lasts has been told no longer ago than a step.
    for sample in range(begin, begin + length):
        now = value_at(of, sample)
        if now is None:
            assert not any(at <= sample)
            continue
        known = values[at <= sample]
        assert len(known)
        near = [value_at(of, each) for each in range(max(sample - STEP, 0), sample + 1)]
        near = [float(np.clip(each, least, most)) for each in near if each is not None]
        assert min(near) - 1e-9 <= known[-1] <= max(near) + 1e-9


def test_a_gain_in_decibels_is_told_as_a_gain():
    at, values = told(Expression(GAIN, Curve((Point(0, -20), Point(0.5, 6)), "decibel")), RATE, 0, 1000)
    assert at.tolist() == [0, 500] and np.allclose(values, [0.1, 10 ** (6 / 20)])


def test_the_same_later():
    of = Expression(GAIN, Curve((Point(0.25, 1, True), Point(0.5, 2)), "decibel"))
    assert of.later(0.5) == Expression(GAIN, Curve((Point(0.75, 1, True), Point(1.0, 2)), "decibel"))


def test_each_kind_has_a_range():
    assert set(RANGES) == set(KINDS) and all(least < most for least, most in RANGES.values())
