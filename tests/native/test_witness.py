"""The witness: what it takes tells what the computer did, and nothing else."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.native.witness import (
    CLOCK,
    FEWEST,
    UNITS,
    around_best,
    is_alone,
    least_units,
    look,
    looks,
    undisturbed,
    usual,
)

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
    for clock in (1, 2):
        rows = [[(clock, 1)]] * 20 + [[(clock, 1.5)]] * 80
        assert least_units(told(*rows[::2], *rows[1::2], [(0, 0)])) == BEST
    # Who shares the core all the time but for a moment is heard by that.
    pause = [[(1, 1)]] * 12
    assert least_units(told(*[[(1, 1.5)]] * 460, *pause, *[[(1, 1.5)]] * 528)) == BEST
    # Of too few nothing is known.
    assert least_units(told(*[[(1, 1)]] * (FEWEST - 1), *[[(0, 0)]] * 99)) == np.inf
    assert least_units(told(*[[(1, 1)]] * FEWEST)) == BEST


@pytest.mark.parametrize("shared", [0.0, 0.5])
def test_the_least_of_many_times_is_still_what_the_units_take_at_best(shared):
    """The clock goes down and up, now and then between the chain of a row and its units: such a row tells of units that
    take a seventh less. Whoever keeps the least would think everybody disturbed from then on."""
    random, least = np.random.default_rng(4), np.inf
    for _ in range(2000):
        low = np.repeat(random.random(24) < 0.5, 8) if random.random() < 0.5 else np.arange(192) < random.integers(192)
        rose = low & ~np.append(low[1:], low[-1])
        busy = np.repeat(random.random(24) < shared, 8)
        made = told(*([(1.15 if slow else 1.0, 1.6 if other else 1.0)] for slow, other in zip(low, busy, strict=True)))
        made[rose, 0, UNITS] = made[rose, 0, UNITS] / 1.15
        noise = random.normal(1, 0.004, made.shape)
        least = min(least, least_units((made * noise).astype(np.int64)))
    assert least == pytest.approx(BEST, rel=0.01)


def test_what_it_computes_neither_dies_away_nor_grows():
    """Late times are as early ones: each in the clock's own steps, whatever the clock is just then."""
    seen = looks(6000)
    assert (seen > 0).all()
    early, late = (part[:, UNITS] / part[:, CLOCK] for part in (seen[:2000], seen[4000:]))
    assert 0.5 < np.median(early) / np.median(late) < 2
    assert 0.5 < look()[0] * 1e9 / seen[:, CLOCK].min() < 2.5
    # What it is asked for by itself are the same two figures.
    assert 0.5 < look()[1] / least_units(seen) < 2
