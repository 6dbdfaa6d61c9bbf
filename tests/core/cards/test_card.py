"""Cost cards: what is measured is taken as it is, everything else is marked as scaled or unknown."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import nnls

from nimbleload.core.cards.card import Cell, CostCard, Figure, fit_line
from nimbleload.core.session.plugins import CardKey

KEY = CardKey("test", "p", "", "0", 2, 0)


def line_card(fixed: float, per_sample: float, buffers=(64, 256, 1024), rate=48000) -> CostCard:
    cells = tuple(Cell(rate, b, "sounding", fixed + per_sample * b) for b in buffers)
    return CostCard(KEY, cells=cells)


def test_a_measured_size_is_taken_as_measured():
    assert line_card(1e-6, 1e-8).cost(48000, 256, "sounding") == Figure(1e-6 + 256e-8, "measured")


@pytest.mark.parametrize("buffer", [32, 100, 512, 4096])
def test_other_sizes_follow_the_line_and_say_so(buffer):
    cost = line_card(2e-6, 1e-8).cost(48000, buffer, "sounding")
    assert cost.seconds == pytest.approx(2e-6 + buffer * 1e-8, rel=1e-6)
    assert cost.provenance == "scaled"


def test_fixed_and_per_sample_part_are_found_again():
    fit = line_card(3e-6, 2e-8, (32, 64, 128, 1024)).fit(48000, "sounding")
    assert fit is not None
    assert (fit.fixed, fit.per_sample) == (pytest.approx(3e-6), pytest.approx(2e-8))
    assert fit.worst < 1e-9


def test_a_line_never_has_a_negative_part():
    falling = [Cell(48000, 64, "sounding", 5e-6), Cell(48000, 1024, "sounding", 4e-6)]
    fit = fit_line(falling)
    assert fit.fixed >= 0
    assert fit.per_sample >= 0
    assert fit.worst > 0.05


def test_the_line_is_that_of_a_general_method():
    rng = np.random.default_rng(2)
    zeros = [0, 0]
    for _ in range(2000):
        sizes = rng.choice(2 ** np.arange(4, 14), rng.integers(2, 8), replace=False)
        costs = rng.uniform(1e-6, 1e-3, len(sizes)) if rng.random() < 0.5 else 1e-8 * sizes * rng.uniform(1, 3) + 1e-6
        fit = fit_line([Cell(48000, int(n), "sounding", float(c)) for n, c in zip(sizes, costs, strict=True)])
        (fixed, per_sample), _ = nnls(np.column_stack((1 / costs, sizes / costs)), np.ones(len(sizes)))
        assert (fit.fixed, fit.per_sample) == (pytest.approx(fixed, abs=1e-12), pytest.approx(per_sample, abs=1e-14))
        zeros[0] += fixed == 0
        zeros[1] += per_sample == 0
    assert min(zeros) > 20


def test_another_rate_is_scaled_from_the_nearest_one():
    low, high = line_card(0, 1e-8, rate=44100), line_card(0, 3e-8, rate=96000)
    both = CostCard(KEY, cells=low.cells + high.cells)
    assert both.cost(48000, 256, "sounding") == Figure(pytest.approx(256e-8), "scaled")
    assert both.cost(88200, 256, "sounding") == Figure(pytest.approx(3 * 256e-8), "scaled")


def test_silence_that_was_not_measured_costs_what_sound_does():
    assert line_card(0, 1e-8).cost(48000, 256, "silent") == Figure(256e-8, "scaled")


def test_a_card_without_cells_is_unknown_not_free():
    assert CostCard(KEY).cost(48000, 256, "sounding").provenance == "unknown"
    assert CostCard(KEY).cost(48000, 256, "silent").provenance == "unknown"


def test_one_size_alone_scales_in_proportion():
    assert line_card(0, 1e-8, (256,)).cost(48000, 512, "sounding").seconds == pytest.approx(512e-8)
