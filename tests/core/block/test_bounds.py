"""Bounds: below every block that is played, and closed forms where they are reached."""

from __future__ import annotations

import random

import numpy as np
import pytest

from nimbleload.core.block.bounds import Cut, cuts, heads, last_task, most, slowed_bound, spread, tails
from nimbleload.core.block.parts import divided
from nimbleload.core.block.play import play
from nimbleload.core.block.schedule import chains, makespans, remaining
from nimbleload.core.session.computer import Host
from nimbleload.core.session.routing import build
from tests.helpers.often import often
from tests.helpers.sessions import bus, random_session, session, track


def played(seed: int):
    """A random graph, costs and what is lost beside others, and the block of it."""
    rng = random.Random(seed)
    of = random_session(rng)
    graph = build(of)
    cost = np.array([[rng.choice((0.0, rng.uniform(0, 1))) for _ in of.strips]])
    dearer = rng.uniform(0, 1.2)
    beside = cost * np.array([rng.uniform(0, dearer) for _ in of.strips])
    threads = rng.randint(1, 5)
    parts = rng.choice((1, 1, 2, 3))
    tasks = divided(graph, parts)
    host = Host(listed=rng.random() < 0.3, parts=parts)
    return (
        graph,
        tasks,
        parts,
        cost,
        beside,
        threads,
        play(tasks, host, np.zeros(len(of.strips), bool), cost, beside, threads),
    )


@pytest.mark.parametrize("seed", range(often(100)))
def test_no_block_is_shorter_than_any_bound(seed):
    _, tasks, parts, cost, _, threads, found = played(seed)
    work, lost = found.own_work, found.beside
    bound = spread(work, lost, threads)
    if threads == 1 or (lost <= (threads - 1) * work).all():
        assert (found.makespan >= bound * (1 - 1e-12)).all()
        alone, chain = makespans(tasks, np.tile(cost / parts, parts), threads)
        assert (found.makespan >= slowed_bound(chain, work, lost, threads) * (1 - 1e-12)).all()
        # And as long as the order itself takes: that is what is played.
        assert found.makespan == pytest.approx(slowed_bound(alone, work, lost, threads))
    assert (work <= found.work + 1e-15).all()


@pytest.mark.parametrize("seed", range(often(100)))
def test_no_block_is_longer_than_the_most_of_it(seed):
    _, tasks, parts, cost, _, threads, found = played(seed)
    chain = chains(tasks, np.tile(cost / parts, parts))
    assert chain == pytest.approx([remaining(tasks, np.tile(row / parts, parts)).max() for row in cost])
    longest = most(found.own_work, found.beside, chain, threads)
    assert (found.makespan <= longest * (1 + 1e-12) + 1e-14).all()
    # It is met where nothing can run beside anything else, or everything can.
    if threads == 1:
        assert longest == pytest.approx(found.own_work)


def test_the_most_is_reached_by_a_last_task_that_waits_for_a_core():
    """Graham's own example in small: two tasks of 1, then one of 2 that could have begun first; 3 = 4/2 + 2/2."""
    assert most(np.array([4.0]), np.zeros(1), np.array([2.0]), 2).tolist() == [3.0]
    # Where cores lose more than they gain by each other it is the longer the more evenly they share the work.
    assert most(np.array([4.0]), np.array([8.0]), np.array([2.0]), 2).tolist() == [6.0]


def cut_bound(cut: Cut, cost: np.ndarray, threads: int, now: np.ndarray) -> float:
    """The least time that a block takes by a cut (seconds), where tasks cost so much (S), and cost so much `now`."""
    own = float(cost[cut.last]) if cut.last >= 0 else 0.0
    less = float((np.maximum(now - cost, 0.0) * cut.on).sum())
    return float((cost * cut.tasks).sum()) / threads + cut.along - less + own


@pytest.mark.parametrize("seed", range(often(66)))
def test_no_block_is_shorter_than_a_cut_whatever_tasks_cost_now(seed):
    _, tasks, parts, cost, _, threads, _ = played(seed)
    rng = np.random.default_rng(seed)
    each = np.tile(cost[0] / parts, parts)
    now = each * rng.choice([0.5, 1.0, 2.0], len(each)) + rng.choice([0.0, 0.3], len(each))
    alone, _ = makespans(tasks, each[None, :], threads)
    for cut in cuts(tasks, now, threads):
        assert cut_bound(cut, each, threads, now) <= alone[0] * (1 + 1e-12)
        assert cut.last < 0 or not (cut.tasks[cut.last] or cut.on[cut.last])
        assert not (cut.tasks & cut.on).any()


@pytest.mark.parametrize("seed", range(0, 200, 4))
def test_of_all_cuts_those_are_told_that_say_most(seed):
    """With many different tails, too: those of the last buses are a few of them."""
    rng = np.random.default_rng(seed)
    tracks = (track(f"t{k}", output=f"b{k % 9}") for k in range(40))
    of = session(*tracks, *(bus(f"b{k}", output="g") for k in range(9)), bus("g"))
    graph = build(of)
    cost, threads = rng.uniform(0.1, 1.0, len(of.strips)), int(rng.integers(2, 7))
    last = last_task(graph)
    without = np.where(np.arange(len(cost)) == last, 0.0, cost)
    levels = tails(graph, without)
    every = [without[levels >= level].sum() / threads + level + cost[last] for level in levels if level > 0]
    assert max(float(cut_bound(cut, cost, threads, cost)) for cut in cuts(graph, cost, threads)) >= max(every) - 1e-12


def test_the_cut_before_the_last_strips_is_what_a_row_of_equal_tracks_takes():
    of = session(*(track(f"t{k}", output="b") for k in range(6)), bus("b", output="g"), bus("g"),
                 bus("main", kind="main", output=None))  # fmt: skip
    graph = build(of)
    cost = np.array([1.0] * 6 + [0.5, 0.25, 0.125])
    assert last_task(graph) == 8
    found = cuts(graph, cost, 3)
    # Six tracks on three cores take two units; then bus, group and main one after the other.
    assert max(float(cut_bound(cut, cost, 3, cost)) for cut in found) == pytest.approx(2 + 0.5 + 0.25 + 0.125)
    assert float(makespans(graph, cost[None, :], 3)[0][0]) == pytest.approx(2.875)


def test_a_late_start_is_seen_by_its_head():
    of = session(track("a", output="b"), *(track(f"t{k}", output="c", clips=()) for k in range(4)),
                 bus("b", output="c"), bus("c", output="main"))  # fmt: skip
    graph = build(of)
    least = np.arange(1.0, len(of.strips) + 1)
    index = {s.id: k for k, s in enumerate(of.strips)}
    assert heads(graph, least)[index["b"]] == least[index["a"]]
    assert heads(graph, least)[index["c"]] == max(least[index["a"]] + least[index["b"]], least[index["t3"]])
    assert tails(graph, least)[index["a"]] == sum(least[index[n]] for n in ("b", "c", "main"))
    assert tails(graph, least) == pytest.approx(remaining(graph, least) - least)
    # All that comes after the first is through no sooner than after that, and then as much work as there is.
    early = [cut for cut in cuts(graph, least, 2) if cut.on[index["a"]]]
    assert set(np.flatnonzero(early[0].tasks)) <= {index["b"], index["c"], index["main"]}
    assert early[0].along >= least[index["a"]]


def test_two_ends_have_no_last_strip():
    of = session(track("a", output=None), track("b"), bus("main", kind="main", output=None))
    assert last_task(build(of)) == -1
    assert last_task(build(session(bus("main", kind="main", output=None)))) == -1


@pytest.mark.parametrize(
    ("work", "beside", "threads", "bound"),
    [(4.0, 0.0, 4, 1.0), (4.0, 2.0, 4, 1.5), (4.0, 16.0, 4, 4.0), (4.0, 2.0, 1, 4.0), (0.0, 0.0, 4, 0.0)],
)
def test_the_even_spread(work, beside, threads, bound):
    assert spread(np.array([work]), np.array([beside]), threads)[0] == bound


@pytest.mark.parametrize(
    ("alone", "work", "beside", "threads", "bound"),
    [
        (1.0, 4.0, 3.0, 4, 1.75), (4.0, 4.0, 3.0, 4, 4.0), (2.0, 4.0, 0.0, 4, 2.0), (1.0, 4.0, 24.0, 4, 4.0),
        (1.0, 4.0, 3.0, 1, 1.0), (0.0, 0.0, 0.0, 2, 0.0),
    ],
)  # fmt: skip
def test_a_bound_where_cores_slow_each_other(alone, work, beside, threads, bound):
    each = (np.array([x]) for x in (alone, work, beside))
    assert slowed_bound(*each, threads)[0] == pytest.approx(bound)
