"""The load against a second computation of it that shares nothing with the first (`tests.helpers.second`)."""

from __future__ import annotations

import random

import numpy as np
import pytest

from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from tests.helpers.often import often
from tests.helpers.second import Second, everything


@pytest.mark.parametrize("seeds", range(often(10)), ids=lambda s: f"{s * 100}…")
def test_every_load_equals_the_second_computation(seeds):
    """A hundred random sessions each: two moments of each, at a random buffer size."""
    for seed in range(seeds * 100, (seeds + 1) * 100):
        rng = random.Random(seed)
        of, cards, machine = everything(rng)
        buffer = rng.choice((64, 256, 1024))
        at = case(prepare(of, cards), machine, buffer)
        loads = load_map(at)
        second = Second(of, cards, machine, buffer)
        lasting = np.flatnonzero(np.diff(loads.times) >= at.deadline)
        for moment in rng.sample(lasting.tolist(), min(2, len(lasting))):
            middle = float(loads.times[moment : moment + 2].mean())
            assert loads.load[moment] == pytest.approx(second.load(middle), rel=1e-9, abs=1e-12), (seed, middle)
