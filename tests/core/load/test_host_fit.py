"""Fitting a host: known overheads come back out of the readings that they make, in every kind of host."""

from __future__ import annotations

import random

import msgspec
import numpy as np
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.host_fit import HostFit, MeterReading, fit_host
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.survey import fitted, instant, survey
from nimbleload.core.told.host_fit import sentence
from tests.helpers.often import often
from tests.helpers.sessions import random_cards, random_session


def meter(factor: float, overhead: float, sizes=(64, 1024)):
    """Loads of forty strips whose plugins take 1 % of the deadline each at any size."""
    return np.array([0.4 * factor + 40 * overhead * 48000 / size for size in sizes])


@pytest.mark.parametrize(("factor", "overhead"), [(1.0, 5e-6), (1.3, 0.0), (0.8, 12e-6)])
def test_two_readings_give_both_figures_back(factor, overhead):
    given = [MeterReading(size, load) for size, load in zip((64, 1024), meter(factor, overhead), strict=True)]
    found = fit_host(given, meter, 40)
    assert (found.factor, found.strip_overhead) == (pytest.approx(factor), pytest.approx(overhead, abs=1e-12))
    assert found.fixed == pytest.approx(40 * overhead, abs=1e-11)
    assert found.fixed_error > 0
    assert found.factor_error > 0


@pytest.mark.parametrize("seed", range(often(8)))
def test_readings_that_the_load_computation_makes_give_its_own_figures_back_in_every_kind_of_host(seed):
    rng = random.Random(seed)
    of = random_session(rng)
    factor, overhead = rng.uniform(0.7, 1.6), rng.uniform(2e-6, 4e-5)
    host = Host(
        rng.choice((0, 1)), 0.0, 0.0, rng.choice((0, 1024)), suspends=rng.random() < 0.3, listed=rng.random() < 0.3,
        parts=rng.choice((1, 2, 4)),
    )  # fmt: skip
    armed = tuple(msgspec.structs.replace(s, armed=s.id == "t1" and host.read_ahead > 0) for s in of.strips)
    of = msgspec.structs.replace(of, strips=armed, host=host)
    cards, machine = random_cards(rng, of), Machine(rng.randint(2, 4))
    known = msgspec.structs.replace(host, plugin_factor=factor, strip_overhead=overhead)
    true = instant(survey(msgspec.structs.replace(of, host=known), Plan(), cards, machine, 256), 5.0)
    given = [MeterReading(size, true.rung(size).load) for size in (32, 128, 512, 2048)]
    before = survey(of, Plan(), cards, machine, 256)
    found = fitted(before, instant(before, 5.0), given)
    assert found.factor == pytest.approx(factor, rel=1e-3)
    assert found.strip_overhead == pytest.approx(overhead, rel=1e-2)
    assert max(abs(miss) for miss in found.misses) < 1e-6


def test_whole_per_cents_stay_within_the_error_it_tells():
    rng = np.random.default_rng(4)
    inside = 0
    sizes = (64, 256, 1024)
    for _ in range(100):
        factor, overhead = rng.uniform(0.7, 1.5), rng.uniform(0, 2e-5)
        rounded = [MeterReading(s, round(x, 2)) for s, x in zip(sizes, meter(factor, overhead, sizes), strict=True)]
        found = fit_host(rounded, lambda f, o: meter(f, o, sizes), 40)
        inside += abs(found.factor - factor) <= 3 * found.factor_error
    assert inside >= 95


def test_a_reading_that_fits_badly_is_named():
    sizes = (64, 256, 1024)
    loads = meter(1.0, 1e-6, sizes)
    good = [MeterReading(s, x) for s, x in zip(sizes, loads, strict=True)]
    assert "All readings fit" in sentence(fit_host(good, lambda f, o: meter(f, o, sizes), 40), good)
    bad = [good[0], MeterReading(256, good[1].load + 0.3), good[2]]
    said = sentence(HostFit(0.0, 1.0, 0.0, 0.0, 0.0, (0.01, -0.2, 0.02)), bad)
    assert "The reading at 256 samples fits badly: it is 20 % of the deadline higher" in said


def test_one_size_is_not_enough():
    with pytest.raises(ValueError, match="two readings at different"):
        fit_host([MeterReading(64, 0.5), MeterReading(64, 0.6)], meter, 10)
