"""Sends that leave a chain before its end: what they feed begins sooner, and the work stays the same."""

from __future__ import annotations

import random

import msgspec
import pytest

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.optimise.candidates import Wishes
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.cut_at_sends import split
from nimbleload.core.session.strips import Send
from nimbleload.core.survey import instant, survey
from tests.helpers.sessions import bus, cards_for, random_cards, random_session, session, track, use

BLOCK = 256 / 48000
COSTS = {"eq": 1e-4, "comp": 2e-4, "verb": 8e-4, "hall": 9e-4}


def early(after):
    """A long chain whose send to a dear return leaves after some insert."""
    return session(
        track("a", "eq", "comp", "verb", sends=(Send("hall", after=after),)), bus("hall", "hall", kind="return"),
        bus("main", kind="main", output=None),
    )  # fmt: skip


def seconds(of, cores: int) -> float:
    return float(load_map(case(prepare(of, cards_for(of, COSTS)), Machine(cores), 256)).load[0]) * BLOCK


@pytest.mark.parametrize(
    ("after", "longest"),
    [
        (None, 1.1e-3 + 9e-4),  # the return waits for the whole chain
        (1, max(3e-4 + 9e-4, 1.1e-3)),  # it waits for two inserts only
        (0, max(1e-4 + 9e-4, 1.1e-3)),
        (-1, max(9e-4, 1.1e-3)),  # it hears the source
        (2, 1.1e-3 + 9e-4),
        (99, 1.1e-3 + 9e-4),
    ],
)
def test_what_the_send_feeds_waits_only_for_what_it_hears(after, longest):
    of = early(after)
    assert seconds(of, 2) == pytest.approx(longest)
    assert seconds(of, 1) == pytest.approx(1.1e-3 + 9e-4)


def test_without_such_sends_the_session_is_the_very_same():
    of = early(None)
    assert split(of) is of
    assert split(early(2)).strips == early(2).strips


def test_two_sends_make_three_parts_with_everything_in_its_place():
    of = session(
        track("a", "eq", "comp", "verb", instrument=use("synth", voices=2), volume=0.5, armed=True, mute=True,
              sends=(Send("x", after=-1), Send("y", after=1), Send("z"))),
        bus("x"), bus("y"), bus("z"),
    )  # fmt: skip
    made = split(of)
    first, second, third = (made.strips[k] for k in (0, -2, -1))
    assert [[u.label for u in part.uses()] for part in (first, second, third)] == [["synth"], ["eq", "comp"], ["verb"]]
    assert [[send.target for send in part.sends] for part in (first, second, third)] == [["x"], ["y"], ["z"]]
    assert (first.output, second.output, third.output) == (second.id, third.id, "main")
    assert (first.armed, second.armed, third.armed) == (True, False, False)
    assert (first.volume, third.volume, first.mute, third.mute) == (1.0, 0.5, False, True)
    assert len(first.clips) == 1
    assert third.clips == ()


@pytest.mark.parametrize("through", [-1, 0, 1, 2])
def test_a_freeze_reaches_through_the_parts(through):
    of = session(
        track("a", "eq", "comp", "verb", instrument=use("synth", voices=2), sends=(Send("x", after=0),)), bus("x"),
    )  # fmt: skip
    known = cards_for(of, {**COSTS, "synth": 5e-4})
    frozen = survey(of, Plan().decide(Decision("freeze", "a", through=through)), known, Machine(1), 256)
    left = [5e-4, 1e-4, 2e-4, 8e-4][through + 2 :]
    assert float(frozen.after.load[0]) * BLOCK == pytest.approx(sum(left))


def no_dearer_in_silence(of):
    """A card whose silence costs no more than its sound: the first part of a chain falls silent before the rest."""
    sounding = {cell.buffer: cell.mean for cell in of.cells if cell.condition == "sounding"}
    cells = (msgspec.structs.replace(cell, mean=min(cell.mean, sounding[cell.buffer])) for cell in of.cells)
    return msgspec.structs.replace(of, cells=tuple(cells))


@pytest.mark.parametrize("seed", range(15))
def test_on_one_core_cutting_changes_nothing(seed):
    rng = random.Random(seed)
    of = random_session(rng)
    strips = tuple(
        msgspec.structs.replace(
            s, sends=tuple(msgspec.structs.replace(x, after=rng.randint(-1, len(s.inserts))) for x in s.sends)
        )
        for s in of.strips
    )
    cut = msgspec.structs.replace(of, strips=strips)
    cards = {key: no_dearer_in_silence(each) for key, each in random_cards(rng, of).items()}
    plain, parted = (load_map(case(prepare(each, cards), Machine(1), 256)) for each in (of, cut))
    overhead = of.host.strip_overhead * (len(split(cut).strips) - len(of.strips))
    assert parted.load.max() <= plain.load.max() + overhead / BLOCK + 1e-9
    many = [load_map(case(prepare(each, cards), Machine(64), 256)) for each in (of, cut)]
    assert many[1].chain.max() <= many[0].chain.max() + overhead / BLOCK + 1e-9


def test_plans_and_moments_work_on_sessions_with_such_sends():
    of = session(
        *(track(n, "eq", "comp", "verb", sends=(Send("hall", after=0),)) for n in "abc"),
        bus("hall", "hall", kind="return"), bus("main", kind="main", output=None),
    )  # fmt: skip
    known = cards_for(of, {name: 4 * cost for name, cost in COSTS.items()})
    found = survey(of, Plan(), known, Machine(2), 256)
    assert len(found.planned.session.strips) == len(of.strips) + 3
    at = instant(found)
    assert at.strip_costs.sum() == pytest.approx(sum(at.use_costs.values()))
    made = suggest(found, Wishes(0.8))
    assert made.reached
    after = survey(of, made.plan, known, Machine(2), 256)
    assert float(after.after.load.max()) == pytest.approx(made.load)
