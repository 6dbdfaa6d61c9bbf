"""What a plugin takes while nobody shares the core: from runs of which it is known in which blocks somebody did."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbleload.native.witness import CLOCK, UNITS
from nimbleload.probe import witnessed
from nimbleload.probe.messages import Best
from nimbleload.probe.pace import MOST_ROUNDS
from nimbleload.probe.witnessed import Witnessed, own_times

BEST, BLOCKS, WANTED = 1.5, 400, 4


def plain_own(times, alone):
    """In words: the least of those alone; else the least of the others, less what sharing takes as a rule, but no less
    than the least of all of those alone."""
    count = range(len(times[0]))
    mine = [[row[b] for row, quiet in zip(times, alone, strict=True) if quiet[b]] for b in count]
    others = [[row[b] for row, quiet in zip(times, alone, strict=True) if not quiet[b]] for b in count]
    if not any(mine):
        return [min(each) for each in others]
    ratios = [min(o) / min(m) for m, o in zip(mine, others, strict=True) if m and o]
    lost = max(float(np.median(ratios)), 1.0) if ratios else 1.0
    lowest = min(min(m) for m in mine if m)
    return [min(m) if m else max(int(min(o) / lost), lowest) for m, o in zip(mine, others, strict=True)]


@given(st.integers(0, 100_000), st.integers(1, 5), st.integers(1, 12), st.floats(0.0, 1.0))
def test_own_times_are_those_of_a_plain_loop(seed, runs, blocks, share):
    random = np.random.default_rng(seed)
    times, alone = random.integers(500, 3000, (runs, blocks)), random.random((runs, blocks)) < share
    assert own_times(times, alone).tolist() == plain_own(times.tolist(), alone.tolist())


class Pretended:
    """A plugin that bursts every 16th block, on a core that another thread shares in some stretches of blocks: there
    it takes half as much again, and the witness hears it."""

    def __init__(self, shared: float, seed: int = 1, slower: float = 1.5, lowered: float = 0.0) -> None:
        self._lowered = lowered
        self.own = np.where(np.arange(BLOCKS) % 16 == 3, 90_000, 20_000)
        self._random, self._shared, self._slower, self.made = np.random.default_rng(seed), shared, slower, 0

    def __call__(self, told):
        self.made += 1
        shared = np.repeat(self._random.random(BLOCKS // 8) < self._shared, 8)
        clock = np.where(np.repeat(self._random.random(BLOCKS // 8) < self._lowered, 8), 1.16, 1.0)
        told[:, CLOCK] = 1000 * clock
        told[:, UNITS] = 1000 * clock * BEST * np.where(shared, 1.4, 1.0)
        return clock * np.where(shared, self._slower, 1.0) * self.own + self._random.integers(0, 200, BLOCKS)


@pytest.fixture
def best(monkeypatch):
    """No core of this computer has a say in these tests."""
    monkeypatch.setattr(witnessed, "look", lambda: (1e-6, BEST))
    monkeypatch.setattr(witnessed.Pace, "is_good", lambda self: True)
    return Best(1.0, BEST)


@pytest.mark.parametrize("shared", [0.0, 0.3, 0.8, 0.95])
def test_the_share_of_others_is_not_the_plugins(best, shared):
    plugin = Pretended(shared)
    found = Witnessed(best).runs(plugin, BLOCKS, WANTED)
    assert found.own.mean() == pytest.approx(plugin.own.mean(), rel=0.02)
    # A block right after somebody left is not sure to be one: a burst that always was may come out too low.
    assert (np.abs(found.own / plugin.own - 1) < 0.02).mean() > 0.97
    assert found.times.shape == (min(plugin.made, WANTED), BLOCKS) and found.clock == 1e-6
    assert (found.quiet, found.shared) == (True, 1.0)
    # The least of the same runs, whoever shared the core, is much too high.
    if shared > 0.9:
        assert found.times.min(axis=0).mean() > 1.2 * found.own.mean()


@pytest.mark.parametrize("lowered", [0.4, 0.8])
def test_who_lowers_the_clock_and_pauses_does_not_make_the_plugin_dearer(best, lowered):
    plugin = Pretended(0.3, lowered=lowered)
    found = Witnessed(best).runs(plugin, BLOCKS, WANTED)
    assert plugin.made > WANTED and (found.quiet, found.shared) == (True, 1.0)
    assert (np.abs(found.own / plugin.own - 1) < 0.02).mean() > 0.85
    assert found.own.mean() == pytest.approx(plugin.own.mean(), rel=0.03)


def test_a_clock_that_is_low_in_most_runs_is_said(best, monkeypatch):
    monkeypatch.setattr(witnessed.Pace, "is_good", lambda self: False)
    found = Witnessed(best).runs(Pretended(0.0, lowered=0.95), BLOCKS, WANTED)
    assert not found.quiet and 1.05 < found.shared < 1.16


def test_a_plugin_that_lowers_its_own_clock_is_not_taken_for_another(best):
    def run(told):
        told[:, CLOCK], told[:, UNITS] = 1160, 1160 * BEST
        told[:50, CLOCK], told[:50, UNITS] = 1000, 1000 * BEST
        return np.full(BLOCKS, 20_000)

    found = Witnessed(best).runs(run, BLOCKS, WANTED)
    assert (found.quiet, found.shared) == (True, 1.0)


def test_more_runs_are_made_until_most_blocks_had_the_core_to_themselves(best):
    # In quiet two that change nothing are enough beside the first.
    for shared, least, most in ((0.0, 3, 3), (0.3, WANTED, WANTED), (0.7, WANTED + 1, MOST_ROUNDS * WANTED)):
        plugin = Pretended(shared)
        Witnessed(best).runs(plugin, BLOCKS, WANTED)
        assert least <= plugin.made <= most


def test_in_quiet_runs_go_on_as_long_as_they_change_something(best):
    """Up to what is wanted: here each takes one hundredth less than the one before."""
    plugin = Pretended(0.0)
    Witnessed(best).runs(lambda told: 0.99**plugin.made * plugin(told), BLOCKS, WANTED)
    assert plugin.made == WANTED


@pytest.mark.parametrize(("falling", "made"), [(0.0, WANTED), (0.003, WANTED), (0.02, MOST_ROUNDS * WANTED)])
def test_where_others_never_pause_more_runs_are_made_only_while_they_change_something(best, falling, made):
    """Each run takes such a share less than the one before, as where whoever shares the core is at it less and less."""
    plugin = Pretended(1.0)
    found = Witnessed(best).runs(lambda told: (1 - falling) ** plugin.made * plugin(told), BLOCKS, WANTED)
    assert plugin.made == made and found.times.shape == (WANTED, BLOCKS)


def test_a_core_that_is_shared_throughout_is_told_from_what_was_seen_before(best, monkeypatch):
    monkeypatch.setattr(witnessed, "look", lambda: (1e-6, 1.4 * BEST))
    monkeypatch.setattr(witnessed.Pace, "is_good", lambda self: False)
    found = Witnessed(best).runs(Pretended(1.0), BLOCKS, WANTED)
    assert not found.quiet and found.own.mean() > 1.4 * Pretended(1.0).own.mean()
    # How much others took is said: the witness took 1.4 times as long in every block.
    assert found.shared == pytest.approx(1.4)
    # Nothing was seen before: it is taken for the core's best, and what the pace says counts.
    fresh = Witnessed()
    assert fresh.best.units == pytest.approx(1.4 * BEST)
    assert fresh.runs(Pretended(1.0), BLOCKS, WANTED).quiet
    # What it hears that is better still goes on to the next plugin.
    fresh.runs(Pretended(0.0), BLOCKS, WANTED)
    assert fresh.best.units == pytest.approx(BEST)


def test_the_runs_told_are_the_quickest_in_the_order_in_which_they_were_made(best):
    # Only the last one has the core to itself.
    made = iter([(5, 1.4), (2, 1.4), (4, 1.4), (1, 1.0)])

    def run(told):
        took, shared = next(made)
        told[:] = 1000, 1000 * BEST * shared
        return np.full(BLOCKS, 1000 * took)

    found = Witnessed(best).runs(run, BLOCKS, 2)
    assert found.times[:, 0].tolist() == [2000, 1000] and set(found.own) == {1000}
