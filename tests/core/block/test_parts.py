"""Blocks that a host divides into parts: against plain simulation, and closed forms."""

from __future__ import annotations

import random

import msgspec
import numpy as np
import pytest

from nimbleload.core.block.parts import divided
from nimbleload.core.block.play import in_a_row, live_strips, placed, play
from nimbleload.core.block.schedule import schedule
from nimbleload.core.cards.card import Cell
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.costs import costs
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import BUFFER_SIZES, Host, Machine
from nimbleload.core.session.routing import build
from nimbleload.core.survey import instant, survey
from tests.helpers.often import often
from tests.helpers.sessions import RATE, bus, card, cards_for, random_cards, random_session, session, track
from tests.helpers.simulate import simulate


@pytest.mark.parametrize("seed", range(often(12)))
@pytest.mark.parametrize("parts", [2, 3])
def test_a_divided_block_equals_a_plain_simulation_of_all_its_parts(seed, parts):
    rng = random.Random(seed)
    of = random_session(rng, tracks=4)
    graph, count, cores = build(of), len(of.strips), rng.randint(1, 3)
    index = {s.id: i for i, s in enumerate(of.strips)}
    fed = []
    for part in range(parts):
        for i, strip in enumerate(of.strips):
            targets = {index[t] for t in [strip.output, *(send.target for send in strip.sends)] if t is not None}
            next_part = [(part + 1) * count + i] if part + 1 < parts else []
            fed.append(sorted(part * count + t for t in targets) + next_part)
    row = np.array([rng.uniform(0.1, 1.0) for _ in of.strips])
    start, end, core = simulate(list(np.tile(row / parts, parts)), fed, cores)
    block = placed(divided(graph, parts), Host(parts=parts), np.zeros(count, np.bool_), row, cores)
    assert block.start == pytest.approx(start)
    assert block.end == pytest.approx(end)
    assert block.core.tolist() == core
    found = play(divided(graph, parts), Host(parts=parts), np.zeros(count, np.bool_), row[None], 0 * row[None], cores)
    assert found.makespan[0] == pytest.approx(max(end))
    assert found.work[0] == pytest.approx(row.sum())


@pytest.mark.parametrize("parts", [1, 2, 4, 8])
def test_a_row_of_equal_tracks_passes_parts_on_like_a_conveyor(parts):
    of = session(
        track("a", output="b"), bus("b", output="c"), bus("c", output="main"), bus("main", kind="main", output=None)
    )
    graph = divided(build(of), parts)
    row, live = np.ones(4), np.zeros(4, np.bool_)
    block = placed(graph, Host(), live, row, 8)
    assert block.makespan == pytest.approx((4 + parts - 1) / parts)
    assert block.chain_bound == pytest.approx(block.makespan)
    assert [of.strips[i].id for i in block.strips(block.chain)] == ["a", "b", "c", "main"]
    assert in_a_row(graph, Host(), live, row, 8).sum() == pytest.approx(block.chain_bound)


def test_each_part_pays_the_fixed_price_of_a_call():
    of = session(track("a", "p"), host=Host(0, 1e-5, 2e-6, parts=4))
    key = next(iter(of.card_keys()))
    cells = tuple(Cell(RATE, b, c, 3e-5 + 1e-7 * b) for b in BUFFER_SIZES for c in ("sounding", "silent"))
    cards = {key: msgspec.structs.replace(card(of.strips[0].inserts[0], 0.0), cells=cells)}
    found = costs(prepare(of, cards), Machine(2), 256)
    assert found.by_state[1] == pytest.approx([4 * (3e-5 + 1e-7 * 64 + 1.2e-5), 4 * 1e-5])
    assert found.calls.tolist() == [4.0, 4.0]


def test_in_one_part_nothing_is_another_object():
    of = session(track("a", "p"))
    prepared = prepare(of, cards_for(of, {"p": 1e-4}))
    assert prepared.tasks is prepared.graph


@pytest.mark.parametrize("seed", range(12))
def test_the_load_of_a_moment_is_that_of_its_block_and_no_part_begins_too_early(seed):
    rng = random.Random(seed)
    of = random_session(rng, tracks=5)
    strips = tuple(msgspec.structs.replace(s, armed=s.id == "t1" and seed % 2 == 0) for s in of.strips)
    host = Host(0, 1e-5, 1e-6, rng.choice((0, 1024)), parts=rng.choice((2, 4)), listed=seed % 3 == 0)
    of = msgspec.structs.replace(of, strips=strips, host=host)
    machine = Machine(rng.randint(1, 4))
    found = survey(of, Plan(), random_cards(rng, of), machine, 256)
    for second in (1.0, 5.0, 9.0):
        at = instant(found, second)
        assert at.rung(256).load * found.deadline == pytest.approx(at.block.makespan)
        assert found.after.load[at.moment] * found.deadline == pytest.approx(at.block.makespan)
        assert at.strip_costs.sum() == pytest.approx(at.block.work)
        assert sum(at.use_costs.values()) <= at.block.work + 1e-12
        assert (in_a_row(found.planned.tasks, host, found.planned.live, at.strip_costs, machine.cores) @ at.strip_costs
                <= at.block.makespan + 1e-12)  # fmt: skip
        count = len(of.strips)
        parts = at.block.start.reshape(-1, count)
        assert (parts[1:] >= at.block.end.reshape(-1, count)[:-1] - 1e-12).all()
        for core in range(machine.cores):
            tasks = np.flatnonzero(at.block.core == core)
            tasks = tasks[np.argsort(at.block.start[tasks], kind="stable")]
            busy = tasks[at.block.end[tasks] > at.block.start[tasks]]
            assert (at.block.start[busy][1:] >= at.block.end[busy][:-1] - 1e-12).all()


def test_with_many_cores_more_parts_shorten_what_is_one_long_chain_of_free_calls():
    of = session(track("a", "p", output="b"), bus("b", "p", output="c"), bus("c", "p"))
    cards = cards_for(of, {"p": 1e-3})
    loads = []
    for parts in (1, 2, 4, 8):
        each = msgspec.structs.replace(of, host=Host(parts=parts))
        loads.append(float(load_map(case(prepare(each, cards), Machine(8), 256)).load[0]) * 256 / RATE)
    assert loads == pytest.approx([3e-3, 2e-3, 1.5e-3, 1.25e-3])
    assert schedule(build(of), np.ones(4), 1).makespan == 4.0
    assert not live_strips(of, build(of)).any()
