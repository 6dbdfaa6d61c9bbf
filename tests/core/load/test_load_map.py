"""The load through the piece: sums, overhead, silence, and what rests on which figures."""

from __future__ import annotations

import math
import random

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import Cell, CostCard
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load import load_map as load
from nimbleload.core.load.case import Case, case
from nimbleload.core.load.costs import costs
from nimbleload.core.load.load_map import fits, load_map, word, worst_load, worst_moments
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.survey import survey
from nimbleload.core.told.warnings import warnings
from tests.helpers.often import often
from tests.helpers.sessions import bus, card, cards_for, random_cards, random_session, session, track, use
from tests.helpers.simulate import simulate


def notes_at(strip, second, cards):
    """The notes that an instrument plays at a second; those that ring on count to the end of their bar of 2 s."""
    tail = cards[strip.instrument.card_key()].tail or 0.0
    most = 0
    for clip in strip.clips:
        for k, (start, count) in enumerate(clip.voices):
            end = clip.voices[k + 1][0] if k + 1 < len(clip.voices) else clip.end
            end = 2.0 * math.ceil((end + tail) / 2.0) if tail else end
            if start <= second < end:
                most = max(most, count)
    return most


@pytest.mark.parametrize("seed", range(often(40)))
def test_the_worst_load_is_that_of_all_moments_though_not_all_are_played(seed, monkeypatch):
    rng = random.Random(seed)
    of = random_session(rng)
    host = Host(parts=rng.choice((1, 1, 2)), listed=rng.random() < 0.3, read_ahead=rng.random() < 0.2)
    of = msgspec.structs.replace(of, host=host)
    at = case(prepare(of, random_cards(rng, of)), Machine(rng.randint(1, 4)), 256)
    monkeypatch.setattr(load, "TOGETHER", rng.choice((1, 2, 32)))
    worst = worst_load(at)
    assert worst == load_map(at).load.max()
    for limit in (0.0, 0.5 * worst, worst * (1 - 1e-9), worst * (1 + 1e-9), 2 * worst):
        assert fits(at, limit) == (worst <= limit)


def test_moments_that_cannot_be_the_worst_are_not_played(monkeypatch):
    parts = (("a", "dear", 0.0), ("b", "cheap", 4.0))
    of = session(*(track(name, plugin, clips=[(at, at + 2)], suspended=True) for name, plugin, at in parts))
    cards = cards_for(of, {"dear": 1e-3, "cheap": 1e-5})
    at = case(prepare(of, cards), Machine(1), 256)
    monkeypatch.setattr(load, "TOGETHER", 1)
    played = []
    usual = Case.played_rows
    monkeypatch.setattr(Case, "played_rows", lambda own, *rows: played.append(len(rows[0])) or usual(own, *rows))
    assert worst_load(at) == pytest.approx(1e-3 / (256 / 48000), rel=0.01)
    assert sum(played) == 1 < len(at.moments.distinct)
    # Whether a limit is kept is known without the cheap one, and of a high one without any.
    for limit, wanted in ((0.1, [1]), (0.2, [])):
        played.clear()
        assert fits(at, limit) == (limit > 0.19) and played == wanted


@pytest.mark.parametrize("seed", range(20))
def test_every_moment_equals_a_plain_simulation_of_its_block(seed):
    rng = random.Random(seed)
    of = random_session(rng)
    cards = random_cards(rng, of)
    prepared = prepare(of, cards)
    machine = Machine(rng.randint(1, 4), rng.choice([0.5, 1.0, 2.0]))
    loads = load_map(case(prepared, machine, 256))
    graph = prepared.graph
    fed = [graph.successors[graph.first[i] : graph.first[i + 1]].tolist() for i in range(len(graph.ids))]
    for m in rng.sample(range(len(loads.load)), min(6, len(loads.load))):
        cost = []
        for i, strip in enumerate(of.strips):
            condition = "sounding" if prepared.moments.sounding[m, i] else "silent"
            own = {u.id: cards[u.card_key()].cost(of.rate, 256, condition).seconds for u in strip.live_uses()}
            if strip.instrument is not None and condition == "sounding":
                notes = notes_at(strip, float(prepared.moments.times[m : m + 2].mean()), cards)
                silent = cards[strip.instrument.card_key()].cost(of.rate, 256, "silent").seconds
                full = own[strip.instrument.id]
                # Of three notes one takes a third of the cost, two take 5/6.
                own[strip.instrument.id] = (min(silent, full), full / 3, full * 2.5 / 3, full)[notes]
            seconds = sum(own.values())
            seconds += of.host.strip_overhead + of.host.plugin_overhead * len(strip.live_uses())
            cost.append(seconds / machine.speed)
        _, end, _ = simulate(cost, fed, machine.cores)
        assert loads.load[m] * loads.deadline == pytest.approx(max(end), rel=1e-9)
        assert loads.load[m] >= max(loads.chain[m], loads.spread[m]) - 1e-12


def test_on_one_core_the_load_is_the_sum_of_all_cards():
    of = session(track("a", "eq", "comp"), track("b", "eq"), bus("main", "eq", kind="main", output=None))
    prepared = prepare(of, cards_for(of, {"eq": 1e-4, "comp": 3e-4}))
    load = load_map(case(prepared, Machine(1), 256)).load
    assert load == pytest.approx((3 * 1e-4 + 3e-4) / (256 / 48000))


def test_silence_costs_what_the_card_says_of_silence():
    of = session(track("a", "eq", clips=((2, 4),)), length=10.0)
    prepared = prepare(of, cards_for(of, {"eq": 1e-3}, silent=2e-4))
    loads = load_map(case(prepared, Machine(1), 256))
    assert loads.load * loads.deadline == pytest.approx([2e-4, 1e-3, 2e-4])


def test_overhead_counts_for_strips_that_are_on_and_plugins_that_are_live():
    bypassed = msgspec.structs.replace(track("a", "eq"), inserts=(use("eq"), use("off", enabled=False)))
    of = session(bypassed, track("b", "eq", enabled=False), host=Host(0, 1e-5, 1e-6))
    found = costs(prepare(of, {}), Machine(2), 256)
    assert found.by_state[1].tolist() == pytest.approx([1.1e-5, 0.0, 1e-5])


def test_a_slower_computer_takes_longer_in_proportion():
    of = session(track("a", "eq"), host=Host(0, 1e-5, 1e-6))
    prepared = prepare(of, cards_for(of, {"eq": 1e-4}))
    full, half = (load_map(case(prepared, Machine(2, speed), 256)).load for speed in (1.0, 0.5))
    assert half == pytest.approx(2 * full)


def test_cores_that_the_host_leaves_free_do_no_work():
    of = session(*(track(f"t{k}", "eq") for k in range(4)), host=Host(2))
    loads = load_map(case(prepare(of, cards_for(of, {"eq": 1e-4})), Machine(4), 256))
    assert loads.threads == 2
    assert loads.load * loads.deadline == pytest.approx(2e-4)


def test_plugins_without_a_figure_are_counted_not_hidden():
    of = session(track("a", "eq", "ghost"), track("b", "ghost"))
    found = costs(prepare(of, cards_for(of, {"eq": 1e-4})), Machine(2), 256)
    assert [u.id for u in found.missing] == ["a/ghost", "b/ghost"]


def test_shares_say_what_the_load_rests_on():
    of = session(track("a", "eq"), track("b", "verb"))
    cards = cards_for(of, {"eq": 1e-4, "verb": 3e-4})
    verb = cards[use("verb").card_key()]
    sample = tuple(msgspec.structs.replace(c, provenance="sample") for c in verb.cells)
    cards[verb.key] = msgspec.structs.replace(verb, cells=sample)
    found = case(prepare(of, cards), Machine(2), 256)
    sounding = np.ones(len(of.strips), np.int16)
    assert found.provenance(sounding) == pytest.approx({"measured": 0.25, "sample": 0.75})


@pytest.mark.parametrize("machine", [Machine(2, 2.0), Machine(4, measured_cores=2)])
def test_another_clock_or_number_of_cores_marks_what_was_measured(machine):
    of = session(track("a", "eq"))
    found = case(prepare(of, cards_for(of, {"eq": 1e-4})), machine, 256)
    assert found.provenance(np.ones(2, np.int16)) == {"scaled": 1.0}
    same = case(prepare(of, cards_for(of, {"eq": 1e-4})), Machine(2, measured_cores=2), 256)
    assert same.provenance(np.ones(2, np.int16)) == {"measured": 1.0}


def test_nothing_measured_has_no_shares():
    of = session(track("a", "eq"))
    found = case(prepare(of, {use("eq").card_key(): CostCard(use("eq").card_key())}), Machine(2), 256)
    assert found.provenance(np.ones(2, np.int16)) == {}


def test_worst_moments_begin_with_the_worst_and_keep_apart():
    clips = [(t, t + 1) for t in range(0, 100, 2)]
    of = session(track("a", "eq", clips=clips), track("b", "verb", clips=((40, 41), (80, 81))), length=100.0)
    loads = load_map(case(prepare(of, cards_for(of, {"eq": 1e-4, "verb": 1e-4}, silent=0.0)), Machine(1), 256))
    worst = worst_moments(loads, 6)
    middles = [(loads.times[m] + loads.times[m + 1]) / 2 for m in worst]
    assert loads.load[worst[0]] == loads.load.max()
    assert {40.5, 80.5} == set(middles[:2])
    assert all(abs(a - b) >= 2.5 for i, a in enumerate(middles) for b in middles[:i])
    assert [loads.load[m] for m in worst] == sorted((loads.load[m] for m in worst), reverse=True)


def test_what_another_session_has_in_common_is_taken_over():
    of = session(track("a", "eq"), track("b", "eq"))
    cards = {use("eq").card_key(): card(use("eq"), 1e-4)}
    first = prepare(of, cards)
    frozen = msgspec.structs.replace(
        of, strips=(msgspec.structs.replace(of.strips[0], frozen_through=0), *of.strips[1:])
    )
    assert prepare(frozen, cards, first).moments is first.moments
    shorter = msgspec.structs.replace(of, length=5.0)
    assert prepare(shorter, cards, first).moments.times[-1] == 5.0


@pytest.mark.parametrize(
    ("load", "said"), [(0.5, "fits"), (0.8, "fits"), (0.81, "tight"), (1.0, "tight"), (1.01, "overload")]
)
def test_a_load_has_its_word(load, said):
    assert word(load, 0.8) == said


class TestWaking:
    """The first block after suspension, which may be dearer than all that follow."""

    def loads(self, machine=1, **changes):
        first = track("a", "eq", clips=((2, 4), (6, 8)))
        of = session(msgspec.structs.replace(first, **changes), track("b", "eq", clips=((0, 10),)))
        known = cards_for(of, {"eq": 1e-3}, silent=2e-4, tail=0.0)
        key, card_of = next(iter(known.items()))
        wakes = Cell(48000, 256, "waking", 2e-3, largest=5e-3)
        known[key] = msgspec.structs.replace(card_of, cells=(*card_of.cells, wakes))
        return load_map(case(prepare(of, known), Machine(machine), 256))

    def test_only_what_was_suspended_wakes_and_only_where_it_begins_to_sound(self):
        plain, asleep = self.loads(), self.loads(suspended=True)
        assert plain.waking.tolist() == plain.load.tolist()
        assert asleep.times.tolist() == [0, 2, 4, 6, 8, 10]
        extra = (asleep.waking - asleep.load) * asleep.deadline
        # On one core the dearest first block takes 5 ms where a usual one takes 1.
        assert extra == pytest.approx([0, 4e-3, 0, 4e-3, 0])

    def test_with_a_core_of_its_own_the_spike_takes_only_its_own_time(self):
        asleep = self.loads(machine=2, suspended=True)
        assert asleep.waking[1] * asleep.deadline == pytest.approx(5e-3)
        assert asleep.load[1] * asleep.deadline == pytest.approx(1e-3)

    def test_a_border_that_gets_late_only_by_waking_is_told_with_its_track(self):
        first = track("Choir", "eq", clips=((2, 4),), suspended=True)
        of = session(first, track("b", "eq", clips=((0, 10),)))
        known = cards_for(of, {"eq": 1e-3}, silent=2e-4, tail=0.0)
        for key, known_card in list(known.items()):
            wakes = Cell(48000, 256, "waking", 2e-3, largest=9e-3)
            known[key] = msgspec.structs.replace(known_card, cells=(*known_card.cells, wakes))
        told = warnings(survey(of, Plan(), known, Machine(1), 256))
        assert told == ("Choir: waking up at 0:02 takes one block to 188 %.",)
        calm = {
            k: msgspec.structs.replace(c, cells=(*c.cells, Cell(48000, 2048, "waking", 2e-3))) for k, c in known.items()
        }
        assert warnings(survey(of, Plan(), calm, Machine(1), 2048)) == ()


def test_a_host_that_goes_by_the_list_takes_the_first_track_first_and_may_take_longer():
    """Three short tracks are listed before a long one: on two cores the long one begins last."""
    of = session(*(track(name, name) for name in ("s1", "s2", "s3", "long")))
    known = cards_for(of, {"s1": 1e-3, "s2": 1e-3, "s3": 1e-3, "long": 3e-3})
    listed = msgspec.structs.replace(of, host=Host(listed=True))
    first = prepare(of, known)
    usual = load_map(case(first, Machine(2), 256))
    again = load_map(case(prepare(listed, known, first), Machine(2), 256))
    assert usual.load[0] * usual.deadline == pytest.approx(3e-3)
    assert again.load[0] * again.deadline == pytest.approx(4e-3)
