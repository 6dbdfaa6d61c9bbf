"""What some of the planned cores play: as full as they would be, of sessions by chance, and as a session of its own."""

from __future__ import annotations

import random

import numpy as np
import pytest
from msgspec.structs import replace

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.in_part import WHOLE, in_part, only
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Send
from nimbleload.core.survey import instant, survey
from tests.helpers.often import often
from tests.helpers.sessions import bus, cards_for, random_cards, random_session, session, track


def part_of(of, at, cores):
    return in_part(of.planned.session, at.block, of.deadline, cores)


@pytest.mark.parametrize("seed", range(often(13)))
def test_they_are_as_full_as_in_the_whole_and_play_what_they_would(seed):
    rng = random.Random(seed)
    of = random_session(rng, rng.randint(6, 30))
    cards = random_cards(rng, of)
    whole = survey(of, Plan(), cards, Machine(6), 256)
    at = instant(whole)
    for cores in (1, 2, 5):
        part = part_of(whole, at, cores)
        if at.block.work <= WHOLE * cores * whole.deadline:
            assert part is None
            continue
        took = [float((at.block.end - at.block.start)[at.block.core == core].sum()) for core in range(at.block.threads)]
        lanes = sorted(range(len(took)), key=lambda core: (-took[core], core))[:cores]
        names = {
            of.strips[task % len(of.strips)].id for task, core in enumerate(at.block.core.tolist()) if core in lanes
        }
        left = only(whole.planned.session, part.ids)
        assert {strip.id for strip in left.strips} - {"main"} == names - {"main"}
        assert (part.cores, part.threads, len(part.ids), part.total) == (cores, 6, len(names), len(of.strips))
        assert part.load == pytest.approx(at.block.makespan / whole.deadline)
        alone = survey(left, Plan(), cards, Machine(cores), 256)
        here = instant(alone, at.second)
        # Nobody has to wait for those that are left out, nor do more than there was.
        assert here.block.work <= sum(sorted(took)[-cores:]) * (1 + 1e-9) + alone.deadline * 0.01
        assert here.block.makespan <= max(at.block.makespan, here.block.chain_bound) * 1.3


def test_what_is_planned_for_no_more_cores_or_hardly_fills_these_is_played_whole():
    of = session(*(track(f"t{k}", "eq") for k in range(8)))
    dear = survey(of, Plan(), cards_for(of, {"eq": 3e-3}), Machine(4), 256)
    assert part_of(dear, instant(dear), 4) is None and part_of(dear, instant(dear), 8) is None
    # Two of eight tracks each, and on one of them the main output.
    assert len(part_of(dear, instant(dear), 1).ids) in (2, 3)
    cheap = survey(of, Plan(), cards_for(of, {"eq": 1e-6}), Machine(4), 256)
    assert part_of(cheap, instant(cheap), 2) is None


def test_a_bus_whose_tracks_are_left_out_plays_itself_and_nothing_leads_to_what_is_not_there():
    keyed = track("k", "comp", output="b")
    keyed = replace(keyed, inserts=(replace(keyed.inserts[0], sidechain="t"),))
    of = session(
        track("t", "eq", output="b"), keyed, bus("b", "glue"), bus("r", "reverb", kind="return"),
        replace(track("s", "eq"), sends=(Send("r"), Send("b"))),
    )  # fmt: skip
    left = only(of, {"b", "k", "s"})
    kinds = {strip.id: strip.kind for strip in left.strips}
    assert kinds == {"b": "bus", "k": "track", "s": "track", "main": "main"}
    assert left.strip("k").inserts[0].sidechain is None and left.strip("k").output == "b"
    assert [send.target for send in left.strip("s").sends] == ["b"]
    alone = only(of, {"b", "r"})
    assert [(strip.kind, len(strip.clips)) for strip in alone.strips[:2]] == [("track", 1), ("track", 1)]
    # The main output leads nowhere and computes nothing, unless it is among them.
    assert alone.strip("main").inserts == () and alone.strip("main").output is None
    cards = cards_for(of, {"eq": 1e-4, "comp": 1e-4, "glue": 1e-4, "reverb": 3e-4})
    whole = survey(alone, Plan(), cards, Machine(2), 256)
    assert np.allclose(instant(whole).block.work, 4e-4)
