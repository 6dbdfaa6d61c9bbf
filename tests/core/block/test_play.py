"""How a host plays a block: one thread for what is live, the rest ahead of time, cores that slow each other down."""

from __future__ import annotations

import random

import msgspec
import numpy as np
import pytest

from nimbleload.core.block.play import in_a_row, live_strips, placed, play, slowed
from nimbleload.core.block.schedule import makespans, remaining
from nimbleload.core.cards.card import Company
from nimbleload.core.cards.upkeep import Upkeep
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.costs import costs
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.session.routing import build
from nimbleload.core.survey import instant, survey
from tests.helpers.often import often
from tests.helpers.sessions import RATE, bus, cards_for, random_cards, random_session, session, track

NOBODY_LIVE = np.zeros(1, np.bool_)


def test_armed_strips_and_all_after_them_are_live():
    of = session(track("a", armed=True, output="b"), track("c", output="b"), bus("b"), bus("d"))
    graph = build(of)
    assert [s.id for s, live in zip(of.strips, live_strips(of, graph), strict=True) if live] == ["a", "b", "main"]


@pytest.mark.parametrize("seed", range(often(13)))
def test_a_read_ahead_host_has_two_loads_and_overloads_when_either_does(seed):
    rng = random.Random(seed)
    of = random_session(rng)
    strips = tuple(msgspec.structs.replace(s, armed=rng.random() < 0.2 and s.kind == "track") for s in of.strips)
    of = msgspec.structs.replace(of, strips=strips)
    graph = build(of)
    live = live_strips(of, graph)
    rows = np.array([[rng.uniform(0, 1) for _ in of.strips]])
    cores = rng.randint(1, 4)
    found = play(graph, Host(read_ahead=1024), live, rows, np.zeros_like(rows), cores)
    if not live.any():
        assert found.makespan == pytest.approx(makespans(graph, rows, cores)[0])
        return
    # One thread computes the live strips one after the other, the others the rest: two sums on their own.
    assert found.live[0] == pytest.approx(rows[0][live].sum())
    rest, _ = makespans(graph, np.where(live, 0.0, rows), max(cores - 1, 1))
    # A single core has both to do.
    assert found.background[0] == pytest.approx(rest[0] + (found.live[0] if cores == 1 else 0.0))
    assert found.makespan[0] == max(found.live[0], found.background[0])
    block = placed(graph, Host(read_ahead=1024), live, rows[0], cores)
    assert block.makespan == pytest.approx(found.makespan[0])
    assert {int(c) for c, is_live in zip(block.core, live, strict=True) if is_live} == {0}
    assert cores == 1 or 0 not in {int(c) for c, is_live in zip(block.core, live, strict=True) if not is_live}
    assert (block.work, block.spread_bound) == pytest.approx((rows.sum(), rows.sum() / cores))
    assert block.chain_bound <= block.makespan * (1 + 1e-12)
    # What must run one after the other: the live strips, or a chain of the others.
    row = in_a_row(graph, Host(read_ahead=1024), live, rows[0], cores)
    longest = remaining(graph, np.where(live, 0.0, rows[0])).max()
    assert float(row @ rows[0]) == pytest.approx(rows.sum() if cores == 1 else max(rows[0][live].sum(), longest))


def test_reading_ahead_costs_what_the_longer_block_does_but_for_what_is_live():
    of = session(track("a", "p", armed=True), track("b", "p"), host=Host(read_ahead=1024))
    cards = cards_for(of, {"p": 1e-3})
    # Twice as dear per sample at 256 as at 1024 samples.
    key = next(iter(cards))
    cells = tuple(msgspec.structs.replace(c, mean=c.mean * (2 if c.buffer == 256 else 1)) for c in cards[key].cells)
    found = costs(prepare(of, {key: msgspec.structs.replace(cards[key], cells=cells)}), Machine(2), 256)
    assert found.by_state[1][:2] == pytest.approx([2e-3, 1e-3])


@pytest.mark.parametrize(("cores", "work", "makespan", "factor"), [
    (2, 2.0, 1.0, 1.5), (2, 1.0, 1.0, 1.0), (4, 2.5, 1.0, 1.25), (1, 1.0, 1.0, 1.0),
])  # fmt: skip
def test_cores_slow_each_other_down_by_the_share_that_computes_at_once(cores, work, makespan, factor):
    made = slowed(np.array([work]), np.array([work / 2]), np.array([makespan]), cores)
    assert made[0] == pytest.approx(factor)


def test_the_neighbours_effect_and_the_company_are_in_every_load():
    of = session(track("a", "p"), track("b", "p"))
    cards = cards_for(of, {"p": 1e-3})
    key = next(iter(cards))
    upkeep = Upkeep(0, 1 << 20, 0.0, 0.0, 0.0, 1.5)
    company = (Company(RATE, 256, (0, 1 << 20), (1.0, 1.2)),)
    dear = {key: msgspec.structs.replace(cards[key], upkeep=upkeep, company=company)}
    alone = load_map(case(prepare(of, dear), Machine(1), 256)).load
    # On one core both footprints come between; on two cores one, while both compute all the time.
    assert alone[0] == pytest.approx(2 * 1e-3 * 1.2 / (256 / RATE))
    both = load_map(case(prepare(of, dear), Machine(2), 256)).load
    assert both[0] == pytest.approx(1e-3 * 1.2 * 1.5 / (256 / RATE))
    found = survey(of, Plan(), dear, Machine(2), 256)
    at = instant(found)
    assert at.rung(256).load == pytest.approx(both[0])
    assert at.block.makespan == pytest.approx(1e-3 * 1.2 * 1.5)
    assert sum(at.use_costs.values()) == pytest.approx(at.block.work)


def test_a_host_that_suspends_gives_nothing_for_silence():
    of = session(track("a", "p", clips=((0, 2),)), track("b", "p", clips=((5, 10),)))
    cards = cards_for(of, {"p": 1e-3})
    always = load_map(case(prepare(of, cards), Machine(1), 256))
    suspended = msgspec.structs.replace(of, host=Host(suspends=True))
    when = load_map(case(prepare(suspended, cards), Machine(1), 256))
    assert always.load == pytest.approx([2e-3 * RATE / 256] * 3)
    assert when.load == pytest.approx([1e-3 * RATE / 256, 0.0, 1e-3 * RATE / 256])


@pytest.mark.parametrize("seed", range(20))
def test_the_parts_of_a_play_add_up(seed):
    rng = random.Random(seed)
    of = random_session(rng)
    prepared = prepare(of, random_cards(rng, of))
    cores = rng.randint(1, 4)
    found = case(prepared, Machine(cores), 256).played(prepared.moments.distinct)
    assert (found.factor >= 1).all()
    assert (found.makespan >= found.chain * (1 - 1e-10)).all()
    assert (found.makespan >= found.work / cores * (1 - 1e-10)).all()


def test_on_one_core_what_is_computed_ahead_comes_after_what_is_live():
    of = session(track("a", "p", armed=True), track("b", "q"), track("c", "q"), host=Host(read_ahead=1024))
    graph = build(of)
    live = live_strips(of, graph)
    row = np.where([s.id == "a" for s in of.strips], 2.0, np.where([s.id in "bc" for s in of.strips], 3.0, 0.0))
    block = placed(graph, of.host, live, row, 1)
    assert block.start[~live].tolist() == [2.0, 5.0]
    assert block.end[~live].tolist() == [5.0, 8.0]
    assert (block.makespan, block.chain_bound) == (8.0, 5.0)


def test_a_chain_takes_longer_as_everything_else_does_while_cores_slow_each_other_down():
    of = session(track("a", "p"), track("b", "p"))
    graph, rows = build(of), np.array([[1.0, 1.0, 0.0]])
    found = play(graph, of.host, np.zeros(3, np.bool_), rows, rows / 2, 2)
    assert (found.factor[0], found.chain[0], found.work[0]) == pytest.approx((1.5, 1.5, 3.0))
    assert found.makespan[0] == pytest.approx(1.5)
