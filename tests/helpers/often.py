"""How often the same is tried: a part of the times in every run, all of them before a release."""

from __future__ import annotations

import os
from itertools import product

THOROUGH = "NIMBLE_THOROUGH"


def often(times):
    """So many times, or with `NIMBLE_THOROUGH=1` three times as many."""
    return 3 * times if os.environ.get(THOROUGH) else times


def each_of(*values):
    """Combinations in which each of the values in each place occurs; with `NIMBLE_THOROUGH=1` all there are."""
    if os.environ.get(THOROUGH):
        return list(product(*values))
    return [tuple(of[k % len(of)] for of in values) for k in range(max(map(len, values)))]
