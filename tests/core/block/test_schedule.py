"""The block computation against plain event simulation, exhaustive search and closed forms."""

from __future__ import annotations

import random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbleload.core.block.schedule import makespans, schedule
from nimbleload.core.session.routing import Graph
from tests.helpers.often import often
from tests.helpers.simulate import best_makespan, simulate


def graph_of(fed: list[list[int]], listed: bool = False) -> Graph:
    """A graph from each task's list of targets, which all have higher numbers."""
    count = len(fed)
    waits = np.zeros(count, np.int32)
    for targets in fed:
        for target in targets:
            waits[target] += 1
    first = np.concatenate(([0], np.cumsum([len(f) for f in fed]))).astype(np.int32)
    flat = np.array([t for f in fed for t in f], np.int32)
    return Graph(tuple(map(str, range(count))), first, flat, waits, np.arange(count, dtype=np.int32),
                 np.full(count, -1, np.int32), np.arange(count, dtype=np.int32), listed)  # fmt: skip


@st.composite
def blocks(draw, most=9):
    """(costs, targets, cores): whole-number costs above zero, so that sums are exact."""
    count = draw(st.integers(1, most))
    cost = draw(st.lists(st.integers(1, 9), min_size=count, max_size=count))
    fed = [sorted(draw(st.sets(st.integers(i + 1, count - 1)))) if i < count - 1 else [] for i in range(count)]
    return [float(c) for c in cost], fed, draw(st.integers(1, 4))


@given(blocks(), st.booleans())
@settings(max_examples=often(200), deadline=None)
def test_equals_a_plain_event_simulation(block, listed):
    cost, fed, cores = block
    computed = schedule(graph_of(fed, listed), np.array(cost), cores)
    start, end, core = simulate(cost, fed, cores, [0.0] * len(cost) if listed else None)
    assert computed.start.tolist() == start
    assert computed.end.tolist() == end
    assert computed.core.tolist() == core
    assert computed.makespan == max(end)


@given(blocks(most=5))
@settings(max_examples=60, deadline=None)
def test_no_order_of_tasks_beats_the_bounds(block):
    cost, fed, cores = block
    computed = schedule(graph_of(fed), np.array(cost), cores)
    best = best_makespan(cost, fed, cores)
    assert computed.bound <= best + 1e-12
    assert best <= computed.makespan + 1e-12


@given(blocks())
@settings(max_examples=often(70), deadline=None)
def test_one_core_takes_the_sum_of_the_work(block):
    cost, fed, _ = block
    assert schedule(graph_of(fed), np.array(cost), 1).makespan == sum(cost)


@given(blocks())
@settings(max_examples=often(70), deadline=None)
def test_enough_cores_take_the_longest_chain(block):
    cost, fed, _ = block
    computed = schedule(graph_of(fed), np.array(cost), len(cost))
    assert computed.makespan == computed.chain_bound


@given(blocks())
@settings(max_examples=often(70), deadline=None)
def test_no_core_does_two_things_at_once_and_nothing_starts_before_what_feeds_it(block):
    cost, fed, cores = block
    b = schedule(graph_of(fed), np.array(cost), cores)
    for i in range(len(cost)):
        assert b.end[i] - b.start[i] == cost[i]
        assert all(b.start[t] >= b.end[i] for t in fed[i])
        assert 0 <= b.core[i] < cores
        for j in range(i):
            if b.core[i] == b.core[j]:
                assert b.end[i] <= b.start[j] or b.end[j] <= b.start[i]


@given(blocks(), st.data())
@settings(max_examples=often(70), deadline=None)
def test_less_work_on_one_core_never_takes_longer(block, data):
    cost, fed, _ = block
    lighter = [data.draw(st.floats(0, c)) for c in cost]
    before = schedule(graph_of(fed), np.array(cost), 1).makespan
    assert schedule(graph_of(fed), np.array(lighter), 1).makespan <= before + 1e-9


@given(blocks())
@settings(max_examples=often(70), deadline=None)
def test_the_longest_chain_is_connected_and_as_long_as_it_says(block):
    cost, fed, cores = block
    b = schedule(graph_of(fed), np.array(cost), cores)
    assert all(after in fed[before] for before, after in zip(b.chain, b.chain[1:], strict=False))
    assert sum(cost[t] for t in b.chain) == b.chain_bound


@given(blocks())
@settings(max_examples=often(70), deadline=None)
def test_the_closing_tasks_wait_for_each_other_up_to_the_end(block):
    cost, fed, cores = block
    b = schedule(graph_of(fed), np.array(cost), cores)
    assert b.end[b.closing[-1]] == b.makespan
    for before, after in zip(b.closing, b.closing[1:], strict=False):
        assert after in fed[before]
        assert b.end[before] == b.start[after]


def test_rows_of_costs_give_what_single_blocks_give():
    rng = np.random.default_rng(5)
    fed = [[5], [5], [6], [6], [7], [7], [7], []]
    costs = rng.exponential(1e-4, (40, 8))
    graph = graph_of(fed)
    ends, longest = makespans(graph, costs, 3)
    for row, end, chain in zip(costs, ends, longest, strict=True):
        single = schedule(graph, row, 3)
        assert (single.makespan, single.chain_bound) == (end, chain)


def test_a_large_random_block_keeps_its_order_and_its_bound():
    rng = random.Random(3)
    fed = [sorted({rng.randrange(i + 1, 300) for _ in range(2)}) if i < 299 else [] for i in range(300)]
    cost = np.array([rng.random() for _ in range(300)])
    b = schedule(graph_of(fed), cost, 8)
    assert b.makespan >= b.bound - 1e-9
    assert b.makespan <= b.spread_bound + b.chain_bound  # Graham's bound for list scheduling
    assert all(b.start[t] >= b.end[i] - 1e-12 for i in range(300) for t in fed[i])


def test_nothing_to_do_takes_no_time():
    empty = schedule(graph_of([]), np.array([]), 4)
    assert (empty.makespan, empty.chain, empty.closing) == (0.0, (), ())


def test_tasks_that_cost_nothing_still_wait_their_turn():
    b = schedule(graph_of([[1], [2], []]), np.array([0.0, 2.0, 0.0]), 2)
    assert b.start.tolist() == [0.0, 0.0, 2.0]
    assert b.makespan == 2.0


@pytest.mark.parametrize("bad", [[-1.0, 1.0], [float("nan"), 1.0], [float("inf"), 1.0], [1.0]])
def test_impossible_costs_are_refused(bad):
    with pytest.raises(ValueError, match="costs"):
        schedule(graph_of([[1], []]), np.array(bad), 2)


def test_a_block_without_cores_is_refused():
    with pytest.raises(ValueError, match="at least one core"):
        schedule(graph_of([[]]), np.array([1.0]), 0)
