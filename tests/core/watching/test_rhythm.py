"""The cycle is found from wakings alone, whatever else wakes up in between."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.compiled import alike
from nimbleload.core.watching.records import runs, turns
from nimbleload.core.watching.rhythm import _within, beat, begun_anew, rhythm
from tests.helpers.held_up import host
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 5_333_333


def woken(*stretches):
    return [turns(runs(thread(k, each))) for k, each in enumerate(stretches)]


def late_wakings(count, period, seed, most=60_000):
    rng = np.random.default_rng(seed)
    return [(begin + int(d), end + int(d)) for (begin, end), d in zip(
        blocks(period, count, [period // 3]), rng.integers(0, most, count), strict=True)]  # fmt: skip


@settings(deadline=None, max_examples=40)
@given(st.sampled_from([333_333, 666_667, 1_333_333, 2_902_494, 5_333_333, 21_333_333]), st.integers(0, 10_000))
def test_the_cycle_is_found_within_a_thousandth(period, seed):
    found = rhythm(woken(late_wakings(300, period, seed, min(60_000, period // 20))), [True])
    assert found is not None
    assert found.period == pytest.approx(period, rel=1e-3)
    assert 296 <= len(found.tick) <= 300
    assert (found.start > 0).all()


def test_wakings_in_the_middle_of_a_block_do_not_halve_the_cycle():
    # The leader waits for workers: it wakes a second time in each block, at a place that moves with the work.
    rng = np.random.default_rng(1)
    twice = []
    for k in range(400):
        tick = 1_000_000_000 + k * PERIOD
        middle = tick + int(rng.integers(1_000_000, 3_000_000))
        twice += [(tick, tick + 200_000), (middle, middle + 100_000)]
    found = rhythm(woken(twice), [True])
    assert found is not None
    assert found.period == pytest.approx(PERIOD, rel=1e-3)
    assert (found.start == [1_000_000_000 + k * PERIOD for k in range(400)]).all()


def test_wakings_at_the_same_place_in_each_block_do_not_halve_it_either():
    twice = []
    for k in range(400):
        tick = 1_000_000_000 + k * PERIOD
        twice += [(tick, tick + 200_000), (tick + 2_100_000, tick + 2_300_000)]
    found = rhythm(woken(twice), [True])
    assert found is not None
    assert found.period == pytest.approx(PERIOD, rel=1e-3)


def test_whoever_wakes_first_after_the_tick_leads():
    leader = blocks(PERIOD, 200, [400_000])
    follower = [(begin + 30_000, begin + 900_000) for begin, _ in leader]
    found = rhythm(woken(follower, leader), [True, True])
    assert found is not None
    assert found.leader == 1


def test_only_those_that_may_lead_do():
    leader = blocks(PERIOD, 200, [400_000])
    found = rhythm(woken(leader, [(b + 50_000, e) for b, e in leader]), [False, True])
    assert found is not None
    assert found.leader == 1
    assert rhythm(woken(leader), [False]) is None


def waits_past_the_next(ends):
    """A leader that wakes twice a block, for the second time when its worker is through; in every twentieth block that
    is after the next is due, which is then computed right behind it. `ends` says when it ends (0.1 … 1) else."""
    leader, worker, now = [], [], 0
    for k in range(400):
        at = max(1_000_000_000 + k * PERIOD, now)
        through = at + (PERIOD * 13 // 10 if k % 20 == 19 else round(ends * PERIOD))
        worker.append((at + 10_000, through))
        if leader and leader[-1][1] == at:
            leader[-1] = (leader[-1][0], at + 100_000)
        else:
            leader.append((at, at + 100_000))
        leader.append((through + 10_000, through + 30_000))
        now = through + 30_000
    return leader, worker


def test_a_waking_for_which_the_leader_waited_begins_no_block():
    leader, worker = woken(*waits_past_the_next(0.4))
    found = rhythm([leader, worker], [True, True])
    assert found is not None and found.leader == 0
    assert np.flatnonzero(begun_anew(found, leader, [worker]) == 0).tolist() == list(range(20, 400, 20))
    # Alone it tells no such thing: whoever wakes late may begin late.
    assert (begun_anew(found, leader, []) == 0).sum() == 0


def test_a_leader_that_wakes_late_and_has_waited_for_nobody_begins_its_block():
    # The worker is through before the leader, so that wakes once a block, in every twentieth a millisecond late.
    late = [1_000_000 * (k % 20 == 19) for k in range(400)]
    leader = [(begin + by, end + by) for (begin, end), by in zip(blocks(PERIOD, 400, [500_000]), late, strict=True)]
    worker = [(begin + 10_000, begin + 200_000) for begin, _ in leader]
    turns = woken(leader, worker)
    found = rhythm(turns, [True, True])
    assert found is not None and (begun_anew(found, turns[0], turns[1:]) > 0).all()


def test_a_leader_that_has_done_all_of_its_block_begins_the_next_however_late():
    """A client ends after it in each block, and so before the next one, for which it waits for nobody."""
    leader, client = [], []
    for k in range(400):
        at = 1_000_000_000 + k * PERIOD + 800_000 * (k % 20 == 19)
        leader += [(at, at + 100_000), (at + 200_000, at + 300_000)]
        client.append((at + 310_000, at + 700_000))
    turns = woken(leader, client)
    found = rhythm(turns, [True, True])
    assert found is not None and (begun_anew(found, turns[0], turns[1:]) > 0).all()


def test_threads_that_wake_by_chance_have_no_cycle():
    rng = np.random.default_rng(2)
    at = 1_000_000_000 + np.cumsum(rng.exponential(5_000_000, 500).astype(np.int64) + 1000)
    assert rhythm(woken([(int(t), int(t) + 500) for t in at]), [True]) is None
    assert beat(np.array([1, 2, 3], np.int64)) is None


def test_a_clock_that_drifts_and_a_host_that_begins_anew_keep_their_ticks():
    # After 300 blocks the host begins anew, half a block on, by a clock that goes a little slower.
    first = blocks(PERIOD, 300, [500_000])
    second = blocks(PERIOD + 1000, 300, [500_000], begun=first[-1][0] + PERIOD + PERIOD // 2)
    found = rhythm(woken(first + second), [True])
    assert found is not None
    begun = found.start > 0
    off = np.abs(found.tick[begun] - found.start[begun])
    assert np.median(off) < 0.01 * PERIOD


def test_a_block_that_runs_over_leaves_the_next_without_a_start():
    busy = [PERIOD // 3] * 9 + [PERIOD * 3 // 2]
    found = rhythm(woken(blocks(PERIOD, 200, busy)), [True])
    assert found is not None
    # The one after each long block is computed right behind it.
    assert (np.flatnonzero(found.start == 0) % 10 == 0).all()
    assert (found.start == 0).sum() == 19


def test_the_device_wakes_more_evenly_than_the_work_before_a_middle():
    # Three wakings a block, all of them within a tenth of the period at the same place: the first is the even one.
    rng = np.random.default_rng(5)
    found = []
    for k in range(400):
        tick = 1_000_000_000 + k * PERIOD + int(rng.integers(0, 20_000))
        work = 1 + 0.02 * rng.standard_normal()
        for begin, end in ((0, 0.2), (0.35, 0.5), (0.6, 0.9)):
            found.append((tick + int(begin * work * PERIOD), tick + int(end * work * PERIOD)))
    seen = rhythm(woken(found[1:]), [True])
    assert seen is not None
    assert abs(np.median((seen.start[seen.start > 0] - 1_000_000_000) % PERIOD)) < 20_000


def test_of_equally_even_wakings_the_one_after_the_longest_sleep_begins_the_block():
    stretches = []
    for begin, _ in blocks(PERIOD, 300, [1]):
        stretches += [(begin, begin + 100_000), (begin + 200_000, begin + 300_000), (begin + 400_000, begin + 900_000)]
    seen = rhythm(woken(stretches[2:]), [True])
    assert seen is not None
    assert set((seen.start[seen.start > 0] - 1_000_000_000) % PERIOD) == {0}


def test_a_block_is_due_when_the_earliest_of_those_around_it_were():
    # Every waking is late by chance, up to a twentieth of the period: due is near the earliest of them.
    found = rhythm(woken(late_wakings(400, PERIOD, 7, PERIOD // 20)), [True])
    assert found is not None
    begun = found.start > 0
    late = (found.start[begun] - found.tick[begun]) / PERIOD
    assert np.mean(late > -0.001) > 0.9
    assert 0.015 < np.median(late) < 0.035


# Means of how long others take a core away, and leave it (ns): from hardly ever to nearly half of the time.
OTHERS = [(100_000, 5_000_000), (600_000, 2_000_000), (600_000, 1_500_000), (1_000_000, 2_500_000),
          (2_000_000, 6_000_000), (4_000_000, 12_000_000), (8_000_000, 30_000_000), (500_000, 800_000)]  # fmt: skip


@pytest.mark.parametrize(("away", "free"), OTHERS)
@pytest.mark.parametrize("seed", range(4))
def test_a_host_of_which_up_to_half_of_the_blocks_are_late_keeps_its_cycle(away, free, seed):
    made = host(seed, away, free)
    seen = see(recording(thread(1, made.leader), thread(2, made.worker)))
    assert seen.blocks is not None
    assert seen.blocks.period == pytest.approx(0.002, rel=1e-4)
    assert 0.87 * made.late - 5 <= seen.blocks.dropouts <= made.late + 5


def test_a_host_that_begins_a_third_of_its_blocks_by_the_device_keeps_it_if_seen_for_long():
    made = host(1, 1_000_000, 2_000_000, work=(900_000, 1))
    assert made.late > 500
    found = rhythm(woken(made.leader), [True])
    assert found is not None
    assert found.period == pytest.approx(2_000_000, rel=2e-4)


def test_a_host_that_begins_anew_out_of_step_is_followed_from_there_on():
    first = blocks(PERIOD, 200, [1_500_000])
    second = blocks(PERIOD, 200, [1_500_000], begun=first[-1][0] + PERIOD * 3 // 2)
    found = rhythm(woken(first + second), [True])
    assert found is not None
    begun = found.start > 0
    assert found.period == pytest.approx(PERIOD, rel=1e-6)
    # All but the last of the old time, and the first of the new one: none seems half a block late.
    assert (np.abs(found.tick[begun] - found.start[begun]) < 0.01 * PERIOD).mean() > 0.99


def test_a_host_that_is_late_for_long_has_not_begun_anew():
    # For forty blocks it never sleeps but for its workers, at any place; then it is in time again, as before.
    rng = np.random.default_rng(3)
    stretches = blocks(PERIOD, 200, [1_500_000])
    at = stretches[-1][0] + 1_500_000
    to = stretches[-1][0] + 40 * PERIOD
    while at < to - 3 * PERIOD:
        end = at + int(rng.integers(300_000, 2 * PERIOD))
        stretches.append((at + 40_000, end))
        at = end
    found = rhythm(woken(stretches + blocks(PERIOD, 200, [1_500_000], begun=to)), [True])
    assert found is not None
    assert found.period == pytest.approx(PERIOD, rel=1e-5)
    assert np.abs((found.tick - 1_000_000_000 + PERIOD / 2) % PERIOD - PERIOD / 2).max() < 0.01 * PERIOD


@pytest.mark.parametrize("shape", [1, 3, 8])
def test_threads_that_wake_by_chance_keep_no_time_however_evenly(shape):
    for seed in range(8):
        steps = np.random.default_rng(seed).gamma(shape, 4_500_000 / shape, 600).astype(np.int64)
        at = 1_000_000_000 + np.cumsum(steps + 1000)
        assert rhythm(woken([(int(t), int(t) + 500) for t in at]), [True]) is None


def test_how_many_steps_are_alike_is_counted_as_one_by_one():
    rng = np.random.default_rng(1)
    for count in (0, 1, 7, 300):
        values = np.sort(rng.integers(0, 2000, count))
        for by in (0, 3, 200, 5000):
            assert alike(values, by).tolist() == [int((np.abs(values - each) <= by).sum()) for each in values]


def test_of_steps_those_within_a_width_are_a_stretch_of_them():
    rng = np.random.default_rng(2)
    for _ in range(300):
        steps = np.sort(rng.integers(0, 300, int(rng.integers(0, 60))))
        of, width = float(rng.uniform(-20, 320)), float(rng.choice([0.0, 3.0, rng.uniform(0, 40)]))
        assert _within(steps, of, width).tolist() == steps[np.abs(steps - of) <= width].tolist()
