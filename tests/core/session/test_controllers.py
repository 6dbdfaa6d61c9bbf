"""Controllers: what is told of them, what a pedal does to notes, and cutting and joining them."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbleload.core.session.controllers import (
    BEND,
    PEDAL,
    STEP,
    Controller,
    between,
    cut,
    held,
    joined,
    pressed,
    sustained,
    told,
)
from nimbleload.core.session.curves import Curve, Point

RATE = 48000


def of(*rows, number=1, channel=0):
    return Controller(number, Curve(tuple(Point(*row) for row in rows)), channel)


def test_a_step_is_told_once_and_nothing_before_the_first():
    at, values = told(of((0.5, 1.0), (0.75, 1.0), (1.0, 0.2)), RATE)
    assert at.tolist() == [RATE // 2, RATE]
    assert values.tolist() == [1.0, round(0.2 * 127) / 127]


def test_bend_has_finer_steps_than_the_others():
    assert told(of((0.0, 0.5001), number=BEND), RATE)[1][0] == pytest.approx(0.5001, abs=1e-4)
    assert told(of((0.0, 0.5001)), RATE)[1][0] == pytest.approx(64 / 127)


def test_a_line_is_told_at_places_that_no_block_size_moves():
    at, values = told(of((0.1001, 0.0, True), (0.2, 1.0)), RATE)
    own = {round(0.1001 * RATE), round(0.2 * RATE)}
    assert all(place % STEP == 0 or place in own for place in at.tolist())
    assert (np.diff(values) > 0).all() and values[-1] == 1.0


def test_a_pedal_is_down_from_the_middle_of_its_way_on():
    # Half-way down a line that begins at 1 s, until a step at 3 s; then without end.
    assert pressed([of((0, 0), (1, 0, True), (2, 1), (3, 0.49), (4, 0.5), number=PEDAL)]) == [(1.5, 3), (4, math.inf)]
    assert pressed([of((0, 1), number=1)]) == []
    assert pressed([of((1, 1, True), (2, 0, True), (3, 1), number=PEDAL)]) == [(1, 1.5), (2.5, math.inf)]


@pytest.mark.parametrize(
    ("pedal", "end"),
    [((0.4, 0.6), 0.6), ((0.5, 0.6), 0.6), ((0.51, 0.6), 0.5), ((0.1, 0.49), 0.5), ((0.1, 0.5), 0.5), ((0, 99), 8)],
)
def test_a_pedal_holds_a_note_that_ends_while_it_is_down(pedal, end):
    assert sustained([(0.2, 0.5, 60)], [pedal], 8) == [(0.2, end)]


def test_a_key_that_is_struck_again_ends_what_the_pedal_held():
    notes = [(0.0, 0.1, 60), (0.5, 0.6, 60), (0.5, 0.6, 61), (2.0, 3.0, 60)]
    assert sustained(notes, [(0.0, 1.0)], 9) == [(0.0, 0.5), (0.5, 1.0), (0.5, 1.0), (2.0, 3.0)]


def test_a_pedal_is_for_the_notes_of_its_channel_and_for_all_from_a_channel_without_notes():
    notes = [(0.0, 1.0, 60, 2), (0.0, 0.25, 60, 5), (0.5, 2.0, 60, 5)]
    pedals = [of((0, 1), (3, 0), number=PEDAL, channel=2)]
    assert sorted(held(notes, pedals, 9)) == [(0.0, 0.25), (0.0, 3.0), (0.5, 2.0)]
    assert sorted(held(notes, [of((0, 1), (3, 0), number=PEDAL)], 9)) == [(0.0, 0.5), (0.0, 3.0), (0.5, 3.0)]
    assert sorted(held(notes, [of((0, 1), number=1, channel=2)], 9)) == [(0.0, 0.25), (0.0, 1.0), (0.5, 2.0)]


# Times that are exact in binary, so that what falls on an edge is not a matter of rounding.
times = st.integers(0, 64).map(lambda k: k / 8)
curves = st.lists(st.tuples(times, st.integers(0, 8).map(lambda k: k / 8), st.booleans()), min_size=1, max_size=6).map(
    lambda rows: [Point(*row) for row in sorted({row[0]: row for row in rows}.values())]
)


def value(points, second):
    """What a curve has at a second, point by point; None before its first."""
    found = None
    for k, point in enumerate(points):
        if point.second <= second:
            found = point.value
            if point.ramp and k + 1 < len(points):
                following = points[k + 1]
                if second < following.second:
                    share = (second - point.second) / (following.second - point.second)
                    found = point.value + share * (following.value - point.value)
    return found


@given(curves, times, times)
def test_what_is_cut_has_the_values_that_it_had(points, first, last):
    first, last = sorted((first, last))
    found = cut(points, first, last)
    assert [p.second for p in found] == sorted(p.second for p in found)
    assert all(first <= point.second <= last for point in found)
    for second in np.arange(first, last + 1 / 32, 1 / 16):
        wanted, got = value(points, second), value(found, second)
        assert (wanted is None) == (got is None)
        if wanted is not None and second < last:
            assert got == pytest.approx(wanted)


@given(st.lists(curves, min_size=1, max_size=4))
def test_of_passes_that_overlap_the_later_one_counts(passes):
    (made,) = joined((1, 0, points) for points in passes)
    seconds = [point.second for point in made.curve.points]
    assert seconds == sorted(seconds)
    # Independently: at each time the pass that began last, up to where the next one begins.
    in_order = sorted(passes, key=lambda points: points[0].second)
    for second in np.arange(0, 8.1, 1 / 16):
        begun = [points for points in in_order if points[0].second <= second]
        if begun:
            assert value(made.curve.points, second) == pytest.approx(value(begun[-1], second))


def test_passes_on_other_channels_and_of_other_controllers_stay_apart():
    one, other = [Point(0.0, 0.0)], [Point(1.0, 1.0)]
    made = joined([(1, 3, one), (1, 0, other), (2, 3, other)])
    assert [(each.number, each.channel, len(each.curve.points)) for each in made] == [(1, 0, 1), (1, 3, 1), (2, 3, 1)]
    assert [each.channel for each in between(made, 0.0, 3.0)] == [0, 3, 3]


def test_rounding_between_two_passes_breaks_no_line():
    first = [Point(0.0, 0.0, True), Point(1.0 + 1e-10, 1.0)]
    (made,) = joined([(1, 0, first), (1, 0, [Point(1.0, 0.0)])])
    at, values = told(made, RATE)
    assert len(at) > 100 and values[-1] == 0 and at[-1] == RATE


def test_what_is_between_two_seconds_can_be_laid_elsewhere():
    (found,) = between([of((0, 0.5), (2, 1.0), (9, 0.0))], 1.0, 3.0, 10.0)
    assert [(p.second, p.value) for p in found.curve.points] == [(11.0, 0.5), (12.0, 1.0)]
    assert between([of((5, 0.5))], 1.0, 3.0) == ()
