"""Fitting a host: known overheads come back out of the readings that they make, to the meter's own step."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.load.host_fit import MeterReading, fit_host
from nimbleload.core.session.computer import deadline

RATE = 48000


def readings(fixed: float, factor: float, buffers, plugins):
    return [MeterReading(b, (fixed + factor * s) / deadline(b, RATE)) for b, s in zip(buffers, plugins, strict=True)]


@pytest.mark.parametrize(("fixed", "factor"), [(200e-6, 1.0), (0.0, 1.3), (500e-6, 0.8)])
def test_two_readings_give_both_figures_back(fixed, factor):
    buffers, plugins = (64, 1024), (0.6e-3, 9e-3)
    found = fit_host(readings(fixed, factor, buffers, plugins), plugins, RATE, 40, 4)
    assert (found.fixed, found.factor) == (pytest.approx(fixed, abs=1e-9), pytest.approx(factor))
    assert found.strip_overhead == pytest.approx(fixed * 4 / 40, abs=1e-9)
    assert found.fixed_error > 0
    assert found.factor_error > 0


def test_whole_per_cents_stay_within_the_error_it_tells():
    rng = np.random.default_rng(4)
    inside = 0
    for _ in range(200):
        fixed, factor = rng.uniform(0, 5e-4), rng.uniform(0.7, 1.5)
        buffers, plugins = (64, 256, 1024), (0.5e-3, 2e-3, 8e-3)
        rounded = [MeterReading(r.buffer, round(r.load, 2)) for r in readings(fixed, factor, buffers, plugins)]
        found = fit_host(rounded, plugins, RATE, 40, 4)
        inside += abs(found.factor - factor) <= 3 * found.factor_error
    assert inside >= 190


def test_a_reading_that_fits_badly_is_named():
    buffers, plugins = (64, 256, 1024), (0.5e-3, 2e-3, 8e-3)
    given = readings(1e-4, 1.0, buffers, plugins)
    given[1] = MeterReading(256, given[1].load + 0.2)
    said = fit_host(given, plugins, RATE, 40, 4).sentence(given)
    assert "The reading at 256 samples fits badly" in said
    good = readings(1e-4, 1.0, buffers, plugins)
    assert "All readings fit" in fit_host(good, plugins, RATE, 40, 4).sentence(good)


def test_one_size_is_not_enough():
    with pytest.raises(ValueError, match="two readings at different"):
        fit_host([MeterReading(64, 0.5), MeterReading(64, 0.6)], (1e-3, 1e-3), RATE, 10, 2)
