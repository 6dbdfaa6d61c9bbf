"""Curves against plain counting, point by point."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.session.curves import Curve, Point

RATE = 1000


def plainly(curve, sample):
    """The value at a sample, found by going through the points."""
    before, after = None, None
    for point in curve.points:
        if round(point.second * RATE) <= sample:
            before = point
        elif after is None:
            after = point
    if before is None:
        return curve.points[0].value
    if after is None or not before.ramp:
        return before.value
    a, b = round(before.second * RATE), round(after.second * RATE)
    return before.value + (sample - a) / (b - a) * (after.value - before.value)


def test_it_goes_from_point_to_point_straight_or_in_steps():
    rows = ((0.1, 0.5, True), (0.2, 1.0), (0.3, 0.25, True), (0.3, 0.0), (0.4, 2.0, True))
    curve = Curve(tuple(Point(*row) for row in rows))
    samples = np.arange(500)
    wanted = [plainly(curve, sample) for sample in samples]
    assert np.allclose(curve.at(RATE).values(samples), wanted, atol=1e-12)
    assert [curve.at(RATE).values(np.array([s]))[0] for s in (0, 150, 250, 299, 300, 450)] == [0.5, 0.75, 1, 1, 0, 2]


@pytest.mark.parametrize("seed", range(20))
def test_random_ones_are_what_plain_counting_says(seed):
    rng = np.random.default_rng(seed)
    times = np.sort(rng.uniform(0, 1, rng.integers(1, 12)))
    curve = Curve(tuple(Point(float(t), float(rng.normal()), bool(rng.integers(2))) for t in times))
    samples = rng.integers(0, 1200, 200)
    assert np.allclose(curve.at(RATE).values(samples), [plainly(curve, s) for s in samples], atol=1e-12)


def test_decibels_are_gains_and_straight_in_decibels():
    curve = Curve((Point(0.0, 0.0, True), Point(0.1, -40.0)), "decibel")
    assert np.allclose(curve.at(RATE).values(np.array([0, 50, 100, 200])), [1, 0.1, 0.01, 0.01])
