"""Figures beside lines: apart, and none farther from its line than it must be."""

from __future__ import annotations

import pytest

from nimbleload.app.look.beside_lines import beside_lines


@pytest.mark.parametrize("apart", [0.0, 1.0, 13.9, 14.0, 60.0])
def test_two_stand_apart_in_the_order_of_their_lines(apart):
    places = beside_lines({0.98: 50.0 + apart, 1.0: 50.0}, 40.0, 14.0)
    upper, lower = places[1.0], places[0.98]
    assert upper.bottom() <= lower.top() + 1e-9
    moved = max(14.0 - apart, 0.0) / 2
    assert (upper.center().y(), lower.center().y()) == pytest.approx((50.0 - moved, 50.0 + apart + moved))
    assert upper.size() == lower.size() and (upper.left(), upper.width(), upper.height()) == (0.0, 40.0, 14.0)


def test_one_stands_at_its_line():
    (place,) = beside_lines({1.0: 30.0}, 40.0, 14.0).values()
    assert place.center().y() == 30.0
