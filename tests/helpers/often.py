"""How often what is drawn at random is tried: a third of the times in every run, all of them before a release."""

from __future__ import annotations

import os

THOROUGH = "NIMBLE_THOROUGH"


def often(times):
    """So many times, or with `NIMBLE_THOROUGH=1` three times as many."""
    return 3 * times if os.environ.get(THOROUGH) else times
