"""Blocks as bars against their deadline."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

from nimbleload.app.look.deadline_view import DeadlineView, highest_of


@pytest.mark.parametrize("bars", [1, 2, 7, 100])
def test_a_bar_is_the_highest_of_its_group_and_groups_are_as_equal_as_can_be(qtbot, bars):
    view, loads = DeadlineView(), np.random.default_rng(bars).uniform(0, 1.2, 100)
    qtbot.addWidget(view)
    view.show_loads(loads.tolist(), 0.5)
    assert highest_of(loads, bars).tolist() == [group.max() for group in np.array_split(loads, bars)]


def test_one_block_far_beyond_all_others_leaves_them_room(qtbot):
    view = DeadlineView()
    qtbot.addWidget(view)
    view.show_loads([0.5] * 999 + [1.9], 0.5)
    assert view.top() == pytest.approx(1.05 * 1.9)
    view.show_loads([0.5] * 999 + [20.0], 0.5)
    assert view.top() == 2.0
    # Where many are, the picture is theirs; and what lies behind counts as well.
    view.show_loads([0.5] * 900 + [20.0] * 100, 0.5)
    assert view.top() == pytest.approx(21.0)
    view.show_loads([0.5] * 1000, 0.5)
    assert view.top() == 1.15
    view.show_behind([3.0] * 1000, "before")
    assert view.top() == pytest.approx(3.15)
    assert view.figures()[1001] == ["block", "load before"] and len(view.figures()) == 2002
    # Other blocks have nothing behind them.
    view.show_loads([0.5] * 10, 0.5)
    assert len(view.figures()) == 11 and "behind" not in view.legend(10)


@pytest.mark.parametrize(("width", "lines"), [(1200, 1), (520, 2)])
def test_what_bars_and_lines_are_goes_on_in_a_second_line_where_one_is_too_short(qtbot, width, lines):
    view = DeadlineView()
    qtbot.addWidget(view)
    view.resize(width, 190)
    view.show_loads([0.3] * 5000, 0.3, "typical", xruns=(7,))
    view.show()
    image = view.grab().toImage()
    ground = image.pixel(width - 2, image.height() - 1)
    rows = [
        any(image.pixel(x, y) != ground for x in range(view.width() // 12, image.width()))
        for y in range(image.height() - 45, image.height())
    ]  # fmt: skip
    # From below: words, nothing, words… up to the picture.
    begins = sum(1 for above, below in itertools.pairwise(rows) if above and not below)
    assert begins == lines + 1
