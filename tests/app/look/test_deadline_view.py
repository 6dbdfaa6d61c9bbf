"""Blocks as bars against their deadline."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.app.look.deadline_view import DeadlineView, highest_of


@pytest.mark.parametrize("bars", [1, 2, 7, 100])
def test_a_bar_is_the_highest_of_its_group_and_groups_are_as_equal_as_can_be(qtbot, bars):
    view, loads = DeadlineView(), np.random.default_rng(bars).uniform(0, 1.2, 100)
    qtbot.addWidget(view)
    view.show_loads(loads.tolist(), 0.5)
    assert highest_of(loads, bars).tolist() == [group.max() for group in np.array_split(loads, bars)]
