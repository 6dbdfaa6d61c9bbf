"""Loads, dropouts and lanes of blocks, against a simulation that knows them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.watching.blocks import lanes, see
from nimbleload.core.watching.records import Heard
from nimbleload.core.watching.server import Client, Server
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 2_000_000
BEGUN = 1_000_000_000


def late_by_simulation(busy, count):
    """How many blocks of a host on one thread end after they were due."""
    free = late = 0
    for k in range(count):
        free = max(BEGUN + k * PERIOD, free) + busy[k % len(busy)]
        late += free > BEGUN + (k + 1) * PERIOD
    return late


def test_load_is_from_the_first_start_to_the_last_end():
    leader = blocks(PERIOD, 300, [500_000])
    worker = [(begin + 20_000, begin + 1_200_000) for begin, _ in leader]
    seen = see(recording(thread(1, leader), thread(2, worker)))
    assert seen.roles == ("engine", "engine")
    assert seen.blocks.period == pytest.approx(PERIOD / 1e9, rel=1e-6)
    assert seen.blocks.load == pytest.approx(0.6, abs=1e-6)
    assert seen.blocks.dropouts == 0


@settings(deadline=None, max_examples=60)
@given(st.lists(st.integers(100_000, 3_900_000), min_size=7, max_size=23), st.integers(0, 3))
def test_every_late_block_is_counted_and_no_other(busy, quiet):
    # On average a host must keep up, or it has no cycle any more.
    busy = [*busy, *([150_000] * (2 * len(busy) + quiet))]
    # Ends so near to the deadline that the clock's own doubt decides are left to chance.
    seen = see(recording(thread(1, blocks(PERIOD, 20 * len(busy), busy))))
    free, near = 0, False
    for k in range(len(busy)):
        free = max(k * PERIOD, free) + busy[k]
        near |= abs(free - (k + 1) * PERIOD) < 100_000
    if near or seen.blocks is None:
        return
    last = round((seen.blocks.start[-1] - BEGUN) / PERIOD) + 1
    assert seen.blocks.dropouts == late_by_simulation(busy, last)


def test_a_host_that_was_not_given_a_core_has_missed_the_blocks_meanwhile():
    # Not woken for five blocks, then all six in one go.
    stretches = [each for k, each in enumerate(blocks(PERIOD, 200, [400_000])) if not 100 <= k < 106]
    at = BEGUN + 105 * PERIOD + 300_000
    stretches.append((at, at + 6 * 100_000))
    seen = see(recording(thread(1, sorted(stretches))))
    assert seen.blocks.dropouts == 5


def test_a_worker_that_sleeps_past_the_deadline_makes_its_own_block_late():
    """The leader waits for it, comes late to the next block therefore, and computes that at once."""
    leader, worker, at = [], [], BEGUN
    for k in range(200):
        at = max(BEGUN + k * PERIOD, at)
        nap = 2_400_000 if k % 20 == 19 else 0
        worker.append((at + 10_000, at + 200_000))
        through = at + 200_000
        if nap:
            worker.append((through + nap, through + nap + 5_000))
            through += nap + 5_000
        leader += [(at, at + 150_000), (through + 8_000, through + 20_000)]
        if leader[-3:-2] and leader[-2][0] == leader[-3][1]:
            leader[-3:-1] = [(leader[-3][0], leader[-2][1])]
        at = through + 20_000
    seen = see(recording(thread(1, leader), thread(2, worker)))
    # Behind the last of them nothing is recorded any more.
    assert seen.blocks.dropouts == 9
    assert seen.blocks.worst > 1.2


def test_a_host_that_stops_for_a_second_drops_nothing():
    first = blocks(PERIOD, 200, [400_000])
    second = blocks(PERIOD, 200, [400_000], begun=BEGUN + 1000 * PERIOD)
    assert see(recording(thread(1, first + second))).blocks.dropouts == 0


def test_giving_way_is_counted_for_the_engine_only():
    leader = []
    for begin, end in blocks(PERIOD, 100, [400_000]):
        leader += [(begin, begin + 100_000), (begin + 150_000, end)]
    other = [(begin + 1_000_000, begin + 1_010_000) for begin, _ in blocks(3 * PERIOD + 77_000, 30, [1])]
    seen = see(recording(
        thread(1, leader, gave_way=range(0, 200, 2)),
        thread(2, other, real_time=False, gave_way=range(len(other))),
    ))  # fmt: skip
    assert seen.roles == ("engine", "other")
    assert int(seen.blocks.pushed.sum()) == len(seen.blocks.load)


def test_threads_outside_the_engine_are_told_apart():
    leader = blocks(PERIOD, 100, [400_000])
    rare = [(begin, end) for begin, end in leader[::20]]
    seen = see(recording(
        thread(5, leader, process=1), thread(1, rare, "host", real_time=False, process=1),
        thread(7, rare, "disk reader", real_time=False), thread(8, rare, "watchdog"),
    ))  # fmt: skip
    assert seen.roles == ("engine", "window", "disk", "other")


def bridged(after=30_000, seen=0, of=300):
    """A leader that waits for a process of another rank in each block, which so long after its end goes on (ns); and a
    window that draws. Of the bridge the blocks from `seen` on were seen."""
    leader, bridge, window = [], [], []
    for k in range(of):
        at = BEGUN + k * PERIOD
        leader += [(at, at + 300_000), (at + 1_000_000 + after, at + 1_100_000 + after)]
        bridge.append((at + 310_000, at + 1_000_000))
    for k in range(of // 4):
        at = BEGUN + 400_000 + k * (4 * PERIOD + 137_000)
        window.append((at, at + 900_000))
    return see(recording(
        thread(5, leader), thread(9, bridge[seen:], "bridge", real_time=False, process=9),
        thread(1, window, "drawing", real_time=False),
    ))  # fmt: skip


def test_a_process_for_which_the_engine_waits_is_a_part_of_it_whatever_its_rank():
    seen = bridged()
    assert seen.roles == ("engine", "engine", "window")
    # As soon as there is something to go by: it may have been started, or found, only now.
    assert bridged(seen=270).roles[1] == "engine" and bridged(seen=290).roles[1] != "engine"
    # Who only computes at the same place of the block is none: nothing goes on when it is through.
    assert bridged(after=400_000).roles[1] != "engine"


def test_of_many_threads_in_short_blocks_one_begins_right_after_anything():
    """A window that draws is none of them for that."""
    rng = np.random.default_rng(7)
    period, engine = 666_667, []
    for core in range(8):
        begins = [BEGUN + k * period + core * 60_000 for k in range(900)]
        engine.append(thread(20 + core, [(at, at + 200_000) for at in begins]))
    at = BEGUN + np.cumsum(rng.integers(400_000, 2_000_000, 400))
    window = thread(1, [(int(begin), int(begin) + 150_000) for begin in at], "drawing", real_time=False)
    assert see(recording(*engine, window)).roles[-1] == "window"


def test_a_worker_that_hardly_ever_keeps_its_leader_waiting_makes_its_own_block_late():
    """The leader wakes once a block, but where the worker sleeps past the deadline."""
    leader, worker, at = [], [], BEGUN
    for k in range(200):
        at = max(BEGUN + k * PERIOD, at)
        if leader and leader[-1][1] == at:
            leader[-1] = (leader[-1][0], at + 300_000)
        else:
            leader.append((at, at + 300_000))
        worker.append((at + 10_000, at + 200_000))
        if k % 20 == 19:
            through = at + 2_600_000
            worker.append((through - 5_000, through))
            leader.append((through + 8_000, through + 20_000))
            at = through + 20_000
        else:
            at += 300_000
    seen = see(recording(thread(1, leader), thread(2, worker)))
    assert seen.blocks.dropouts == 9


@pytest.mark.parametrize("seed", range(4))
def test_a_host_that_has_time_is_not_late_by_waking_now_and_then_once_less(seed):
    """Its worker goes to sleep a little after it has woken the leader, which for once had not to wait for it."""
    rng = np.random.default_rng(seed)
    leader, worker = [], []
    for k in range(600):
        at = BEGUN + k * PERIOD + int(rng.integers(0, 70_000))
        leader.append((at, at + 200_000))
        through = at + 190_000
        if rng.random() < 0.7:
            through = at + 400_000
            leader.append((through + 5_000, through + 25_000))
        worker.append((at + 10_000, leader[-1][1] + 15_000))
    seen = see(recording(thread(1, leader), thread(2, worker)))
    assert seen.roles == ("engine", "engine")
    assert seen.blocks.dropouts == 0 and seen.blocks.worst < 0.3


def test_who_gives_way_to_whom_it_has_woken_is_not_pushed():
    """The bridge goes to sleep only after the thread that waited for it has left the core to it again."""
    leader, bridge = [], []
    for k in range(300):
        at = BEGUN + k * PERIOD
        leader += [(at, at + 300_000), (at + 900_000, at + 1_000_000)]
        bridge += [(at + 310_000, at + 900_000), (at + 1_000_000, at + 1_008_000)]
    pushed = list(range(0, 600, 2))
    seen = see(recording(thread(5, leader), thread(9, bridge, real_time=False, process=9, gave_way=pushed)))
    assert seen.roles == ("engine", "engine") and not seen.blocks.pushed.any()
    assert len(seen.turns[1].begin) == 300
    # Nor does the block go on until it sleeps, if others take its core before that.
    tail = [(begin + 400_000, end + 400_000) if k % 2 else (begin, end) for k, (begin, end) in enumerate(bridge)]
    seen = see(recording(thread(5, leader), thread(9, tail, real_time=False, process=9, gave_way=pushed)))
    assert seen.roles == ("engine", "engine") and seen.blocks.load == pytest.approx(0.5, abs=0.01)


def test_without_a_thread_in_real_time_the_regular_one_is_the_engine():
    leader = blocks(PERIOD, 100, [400_000])
    seen = see(recording(thread(1, leader, real_time=False), thread(2, leader[::30], real_time=False)))
    assert seen.roles[0] == "engine"
    assert seen.blocks is not None


def test_without_a_cycle_there_are_no_blocks():
    rng = np.random.default_rng(3)
    at = BEGUN + np.cumsum(rng.exponential(5_000_000, 300).astype(np.int64) + 10_000)
    seen = see(recording(thread(1, [(int(t), int(t) + 5000) for t in at])))
    assert seen.blocks is None and seen.leader == -1
    assert see(recording()).blocks is None


def test_a_sound_server_that_was_heard_begins_the_blocks_whoever_wakes_before_it():
    server = blocks(PERIOD, 200, [100_000])
    client = [(begin - 500_000, begin - 300_000) for begin, _ in server]
    of = recording(thread(1, client, process=8), thread(2, server, process=7))
    assert see(of).leader == 0
    told = Server("JACK", "default", 7, 48000, 96, True, -1, -1, (Client("early", 8, 2, 2, ()),))
    seen = see(of._replace(heard=Heard.of(told, [], [])))
    assert seen.leader == 1
    assert seen.blocks.start[:3].tolist() == [begin for begin, _ in server[:3]]
    # One without a thread that keeps time tells nothing of the blocks.
    silent = Heard.of(told._replace(process=99), [], [])
    assert see(of._replace(heard=silent)).leader == 0


def test_lanes_show_what_ran_between_two_times_engine_first():
    leader = blocks(PERIOD, 100, [400_000])
    other = [(begin - 50_000, begin + 50_000) for begin, _ in leader[::10]]
    looks = [(begin + 10_000, 1) for begin, _ in leader]
    seen = see(recording(thread(2, other, real_time=False, process=2), thread(1, leader, looks=looks), files=["a.lv2"]))
    begin, end = int(seen.blocks.start[10]), int(seen.blocks.end[10])
    found = lanes(seen, begin, end)
    assert [lane.thread for lane in found] == [1, 0]
    assert (found[0].begin.tolist(), found[0].end.tolist()) == ([begin], [end])
    assert found[0].look_owner.tolist() == [1]
    # Only the part that lies within.
    assert (found[1].begin.tolist(), found[1].end.tolist()) == ([begin], [begin + 50_000])
