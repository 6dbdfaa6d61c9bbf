"""The ceiling: blocks played again against a plain loop, and computers of which it is known what they hold."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.computer.ceiling import (
    FIRST,
    HIGHEST,
    LAST,
    LOADS,
    LOWEST,
    ONE_IN,
    TRIALS,
    Blocks,
    Ceiling,
    Held,
    Search,
    by_buffer,
    merged,
)
from tests.helpers.often import often

PERIOD, SECONDS = 0.01, 5
COUNT = round(SECONDS / PERIOD)


def plain_ends(of: Blocks, load: float) -> list[float]:
    """When the last thread of each block ends, as a share of the period after it begins: block by block, in words."""
    found = [0.0] * of.own.shape[1]
    for waited, own, held_up in zip(of.waited, of.own, of.held_up, strict=True):
        ended = 0.0
        for k in range(len(own)):
            due = k * of.period
            begun = max(due + waited[k], ended)
            ended = begun + own[k] * load / of.load + held_up[k]
            found[k] = max(found[k], (ended - due) / of.period)
    return found


@given(st.integers(0, 10_000), st.floats(0.0, 1.5), st.integers(1, 3), st.integers(1, 60))
@settings(max_examples=often(70), deadline=None)
def test_blocks_played_again_are_those_of_a_plain_loop(seed, load, threads, blocks):
    random = np.random.default_rng(seed)
    shape = (threads, blocks)
    waited, held_up = (random.exponential(0.002, shape) * (random.random(shape) < 0.3) for _ in "ab")
    own = random.uniform(0.004, 0.009, shape)
    of = Blocks(0.5, PERIOD, waited, own, held_up, own / 0.005)
    assert of.ends(load) == pytest.approx(plain_ends(of, load), abs=1e-9)


def test_late_is_the_second_in_which_a_block_is():
    own = np.full((1, COUNT), 0.5 * PERIOD)
    held_up = np.zeros((1, COUNT))
    held_up[0, [120, 121, 399]] = 0.006
    of = Blocks(0.5, PERIOD, np.zeros((1, COUNT)), own, held_up, own / 0.005)
    assert of.late(0.5).tolist() == [False, True, False, True, False]
    assert not of.late(0.39).any()


class Pretended:
    """A computer: how long a block of work takes (times its best) and what is held up, by the second; `unit` is how
    far the size of a piece of work is mistaken; in blocks where it `pauses` whoever is at it lets one piece pass."""

    def __init__(
        self, pace=lambda second: 1.0, held_up=lambda second: 0.0, unit=1.0, waited=0.0, pauses=lambda k: False
    ):  # fmt: skip
        self.pace, self.held_up, self.unit, self.waited, self.pauses = pace, held_up, unit, waited, pauses
        self.second = 0

    def trial(self, load: float) -> Blocks:
        """Two threads; what is held up, is once in a second, on one of them."""
        shape = (2, COUNT)
        own, held_up, quickest = np.empty(shape), np.zeros(shape), np.empty(shape)
        for k in range(COUNT):
            second = self.second + int(k * PERIOD)
            own[:, k] = load * PERIOD * self.unit * self.pace(second)
            quickest[:, k] = self.unit * (1.0 if self.pauses(k) else self.pace(second))
            if k % 100 == 50:
                held_up[second % 2, k] = self.held_up(second)
        self.second += SECONDS
        return Blocks(load, PERIOD, np.full(shape, self.waited), own, held_up, quickest)


def searched(computer: Pretended) -> tuple[Ceiling, list[float]]:
    search, tried = Search(), []
    while (load := search.next) is not None:
        tried.append(load)
        search.tell(computer.trial(load / search.pace), True)
    return search.found(480, 48_000, 2, float(SECONDS)), tried


def test_a_computer_that_nothing_disturbs_holds_all_that_is_tried():
    found, tried = searched(Pretended())
    assert found.held == found.least == found.most == HIGHEST
    assert (found.slowed, found.slower, found.longest, found.lost) == (0.0, 1.0, 0.0, 0)
    assert tried == [FIRST, *[LAST] * (TRIALS - 1)] and len(found.trials) == TRIALS


@pytest.mark.parametrize("unit", [0.7, 1.0, 1.6])
def test_loads_are_those_of_the_work_at_its_best_however_large_it_was_taken_for(unit):
    # Waiting for a tenth of each block leaves nine tenths to work that takes a quarter longer now and then.
    waited = 0.1 * PERIOD
    found, tried = searched(Pretended(lambda second: 1.25 if second % 3 == 0 else 1.0, waited=waited, unit=unit))
    assert found.held == pytest.approx(0.9 / 1.25, abs=0.011)
    assert found.slowed == pytest.approx(1 / 3, abs=0.02) and found.slower == pytest.approx(1.25)
    assert found.trials[-1].load == pytest.approx(tried[-1])
    assert found.longest == pytest.approx(0.1 * PERIOD)


@pytest.mark.parametrize("every", [1, 10, 40])
def test_what_is_shared_in_every_block_is_told_by_the_pieces_in_which_others_pause(every):
    """No block is ever at its best; how often others pause for a moment does not change what is held."""
    found, _ = searched(Pretended(lambda second: 1.6, pauses=lambda k: k % every == 0))
    assert found.held == pytest.approx(1 / 1.6, abs=0.011)
    assert (found.slowed, found.slower) == (1.0, pytest.approx(1.6))


@pytest.mark.parametrize("share", [0.2, 0.45, 0.8])
def test_what_is_held_up_often_is_room_that_must_stay(share):
    found, _ = searched(Pretended(held_up=lambda second: share * PERIOD))
    assert found.held == pytest.approx(1 - share, abs=0.011)
    assert found.least == found.most == found.held and found.lost == 0
    assert found.longest == pytest.approx(share * PERIOD)


def test_what_happens_seldom_is_told_as_what_it_may_be():
    # Once in 15 s: less than in one of ten seconds, so that it does not decide; by chance it may be seen as often.
    found, _ = searched(Pretended(held_up=lambda second: 0.5 * PERIOD * (second % (1.5 * ONE_IN) == 3)))
    assert found.held == HIGHEST and found.least == pytest.approx(0.5, abs=0.011)
    # Once in 5 s it does.
    found, _ = searched(Pretended(held_up=lambda second: 0.5 * PERIOD * (second % (0.5 * ONE_IN) == 3)))
    assert found.held == found.least == pytest.approx(0.5, abs=0.011)
    # Six seconds of thirty, where three are allowed: by chance seven may be seen.
    assert found.most == HIGHEST


def test_one_bad_second_does_not_lower_what_is_tried_next():
    _, tried = searched(Pretended(held_up=lambda second: 0.7 * PERIOD * (second == 2)))
    assert tried[1] == LAST


def test_work_that_takes_a_little_longer_is_not_called_slowed():
    found, _ = searched(Pretended(lambda second: 1.15 if second % 3 == 0 else 1.0))
    assert (found.slowed, found.slower) == (0.0, 1.0) and found.held == pytest.approx(1 / 1.15, abs=0.011)


def test_what_no_load_survives_is_counted_and_decides_nothing():
    found, _ = searched(Pretended(held_up=lambda second: 1.5 * PERIOD * (second % 4 == 1)))
    assert found.lost in range(7, 9) and found.longest == pytest.approx(1.5 * PERIOD)
    # What is late in the same second because of it is no other late second.
    assert found.held == HIGHEST


def test_seconds_that_are_lost_are_no_seconds_in_which_a_load_was_held():
    # Every other second is lost. Of the fifteen others two are late with half a block: more than one in ten.
    found, _ = searched(Pretended(held_up=lambda second: PERIOD * (1.5 if second % 2 else 0.5 * (second in (4, 14)))))
    assert found.lost == 15 and found.held == pytest.approx(0.5, abs=0.011)


def test_a_computer_that_holds_nothing():
    found, tried = searched(Pretended(held_up=lambda second: 0.95 * PERIOD))
    assert found.held == found.least == 0.0
    assert tried[1:] == [LOWEST] * (TRIALS - 1)


def braked(load: float, at: int = 250, held_up: float = 0.05) -> Blocks:
    """A trial of one thread that is stopped in one block, in the middle of it or before it."""
    shape = (1, COUNT)
    stopped = np.zeros(shape)
    stopped[0, at] = held_up
    return Blocks(load, PERIOD, np.zeros(shape), np.full(shape, load * PERIOD), stopped, np.ones(shape))


@pytest.mark.parametrize("load", [0.95, 1.4])
def test_what_the_kernel_takes_from_real_time_threads_that_overload_is_the_trials_own_doing(load):
    of = braked(load)
    waiting = of._replace(waited=of.held_up, held_up=of.waited)
    for each in (of, waiting):
        assert not each.unbraked.held_up.any() and not each.unbraked.waited.any()
        assert each.unbraked.own is each.own
    search = Search()
    held = search.tell(of, True)
    assert held.late and search.found(480, 48_000, 1, 5.0).longest == 0.0
    assert search.found(480, 48_000, 1, 5.0).lost == 0
    # Without real time there is no brake: something else held the core up.
    search = Search()
    search.tell(of, False)
    assert search.found(480, 48_000, 1, 5.0).longest == pytest.approx(0.05)


def test_a_thread_that_left_room_was_stopped_by_something_else_and_so_was_one_that_is_stopped_shortly():
    assert braked(0.85).unbraked.held_up.max() == pytest.approx(0.05)
    assert braked(0.95, held_up=0.015).unbraked.held_up.max() == pytest.approx(0.015)
    # Some blocks of much work are no second of it.
    of = braked(0.5)
    of.own[0, 200:220] = 1.5 * PERIOD
    assert of.unbraked.held_up.max() == pytest.approx(0.05)
    of.own[0, 150:251] = 0.95 * PERIOD
    assert of.unbraked.held_up.max() == 0.0


def test_an_overload_is_late_in_every_second_of_it():
    """Blocks that are late one after the other are not one moment that may be passed over."""
    found, _ = searched(Pretended(lambda second: 1.0 if second < 12 else 2.0))
    assert found.held == pytest.approx(0.5, abs=0.011)


@given(st.integers(0, 10_000))
@settings(max_examples=often(10), deadline=None)
def test_it_lies_within_what_it_may_be(seed):
    random = np.random.default_rng(seed)
    paces, held_up = 1 + random.exponential(0.2, 100), random.exponential(0.1, 100) * PERIOD
    found, tried = searched(Pretended(lambda second: paces[second], lambda second: held_up[second]))
    assert found.least <= found.held <= found.most
    assert all(LOWEST <= load <= LAST for load in tried)
    assert found.held == 0.0 or found.held in LOADS


def test_only_those_of_this_rate_and_as_many_threads_are_looked_up():
    trial = (Held(0.5, 1, 0, 0.6, True),)

    def made(buffer, rate, threads, trials=trial):
        return Ceiling(buffer, rate, threads, 1.0, 0.5, 0.5, 0.6, trials=trials)

    found = [made(256, 48000, 2), made(256, 44100, 2), made(512, 48000, 4), made(1024, 48000, 2, ())]
    assert by_buffer(found, 48000, 2) == {256: found[0]}
    assert list(merged(found[:2], found[2:])) == found
    again = Ceiling(256, 48000, 2, 1.0, 0.7, 0.7, 0.8, trials=trial)
    assert list(merged(found, [again])) == [*found[1:], again]
