"""The witness: what it takes tells what the computer did, and nothing else."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.native.witness import CLOCK, UNITS, around_best, is_alone, least_units, look, looks, undisturbed, usual

# What the chain takes at its usual clock (ns), and what the units take at best, as times that.
CHAIN, BEST = 1000, 0.5


def told(*rows) -> np.ndarray:
    """Blocks (B, T, COLUMNS) of what threads took, given as times the usual clock and the best of the units at it."""
    return np.array([[(CHAIN * a, CHAIN * a * BEST * b) for a, b in row] for row in rows], np.int64)


QUIET = [(1, 1), (1, 1)]


def test_a_block_is_undisturbed_if_no_thread_shared_its_units_in_it_or_beside_it():
    found = undisturbed(told(
        QUIET, QUIET, [(1, 1), (1.02, 1.05)], [(1, 1.2), (1, 1)], QUIET, [(0, 0), (1, 1)], QUIET, [(0, 0), (1, 1.5)],
        QUIET,
    ), BEST)  # fmt: skip
    assert found.tolist() == [True, True, False, False, False, True, False, False, False]
    # What left no time to look is as what lies around it.
    late = [(0, 0), (0, 0)]
    found = undisturbed(told(late, QUIET, late, late, QUIET, late, [(1, 2), (1, 1)], late, QUIET, late), BEST)
    assert found.tolist() == [True, True, True, True, False, False, False, False, False, True]
    assert not undisturbed(told(late, late), BEST).any()
    # At another clock all takes longer, and nobody shares it.
    assert undisturbed(told([(1.3, 1), (1, 1)]), BEST).all()
    assert is_alone(told([(1, 1), (1, 2), (0, 0)]), BEST).tolist() == [[True, False, False]]


def test_a_low_clock_before_or_after_blocks_says_who_was_not_alone():
    looks = np.array([[1000, 1000], [1150, 1000], [1000, 0], [0, 0], [1010, 1000]])
    assert around_best(looks, 2, 10).tolist() == [False] * 4 + [True] * 6
    assert around_best(looks[2:], 4, 11).all() and around_best(np.zeros((3, 2), np.int64), 8, 24).all()
    # A clock that is low all the time is the computer's.
    assert around_best(np.full((3, 1), 1150), 8, 24).all()


def test_how_much_others_held_up_the_units():
    assert usual(told([(1.2, 1.5)], [(1.2, 1.0)], [(1.0, 1.5)], [(0, 0)]), BEST) == 1.5
    assert usual(told([(0, 0)]), BEST) == 1.0
    # Nothing is told to be better than the best.
    assert usual(told([(1, 0.9)]), BEST) == 1.0


def test_the_least_of_the_units_goes_by_the_clock():
    # One in a hundred may be as low by chance: of two hundred the third.
    assert least_units(told([(2, 1)], *[[(1, 1.5)]] * 2)) == pytest.approx(BEST, rel=0.02)
    assert least_units(told([(1, 0.2)], *[[(2, 1)]] * 199)) == BEST
    assert least_units(told([(0, 0)])) == 1.0


def test_what_it_computes_neither_dies_away_nor_grows():
    """Late times are as early ones: each in the clock's own steps, whatever the clock is just then."""
    seen = looks(6000)
    assert (seen > 0).all()
    early, late = (part[:, UNITS] / part[:, CLOCK] for part in (seen[:2000], seen[4000:]))
    assert 0.5 < np.median(early) / np.median(late) < 2
    assert 0.5 < look()[0] * 1e9 / seen[:, CLOCK].min() < 2.5
    # What it is asked for by itself are the same two figures.
    assert 0.5 < look()[1] / least_units(seen) < 2
