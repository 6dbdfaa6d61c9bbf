"""Plans of sessions whose cheapest one is known by dynamic programming."""

from __future__ import annotations

import pytest

from nimbleload.core.optimise.suggest import suggest
from tests.helpers.optima import known


@pytest.mark.parametrize("seed", [1, 2])
def test_the_known_least_price_is_reached_and_nearly_proven(seed):
    for name, of, wishes, least in known(seed):
        made = suggest(of, wishes)
        assert made.reached, name
        assert made.load <= wishes.limit + 1e-9, name
        assert made.price == pytest.approx(least, rel=1e-3), name
        assert made.least <= least * (1 + 1e-6), name
        assert made.gap <= 0.01, name
