"""Sentences, each from figures that call for it; and what is advised is tried."""

from __future__ import annotations

import random

import msgspec
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.case import case
from nimbleload.core.load.load_map import load_map
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import Host, Machine
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.outlook import outlook
from nimbleload.core.told.verdict import verdict
from nimbleload.core.units import percent
from tests.helpers.often import often
from tests.helpers.sessions import bus, cards_for, random_cards, random_session, session, track

DEADLINE = 256 / 48000


def surveyed(of, costs, cores):
    return survey(of, Plan(), cards_for(of, {k: v * DEADLINE for k, v in costs.items()}), Machine(cores), 256)


def said_of(of, costs, cores):
    found = surveyed(of, costs, cores)
    return verdict(found, instant(found))


def test_one_long_chain_is_named_and_cores_are_said_not_to_help():
    of = session(track("Choir", "synth", output="Hall"), track("Bell", "eq"), bus("Hall", "verb"))
    said = said_of(of, {"synth": 0.9, "verb": 0.5, "eq": 0.1}, 4)
    assert said.kind == "chain"
    assert said.overload
    assert "Choir → Hall" in said.advice
    assert "more cores do not help" in said.advice
    assert "140 %" in said.headline


def test_too_much_work_says_how_much_must_go():
    of = session(*(track(f"t{k}", "eq") for k in range(40)))
    said = said_of(of, {"eq": 0.1}, 3)
    assert said.kind == "work"
    assert "133 %" in said.advice
    assert "160 % of one core must go" in said.advice  # 4.0 cores of work, 0.8 × 3 allowed


def test_what_is_over_the_limit_evenly_spread_is_work_whatever_waits_at_the_end():
    """Evenly spread 112 % is over the limit of 80 %, though a third of the block's length is waiting."""
    of = session(*(track(f"t{k}", "eq", output="Band") for k in range(16)), bus("Band", "comp"))
    found = surveyed(of, {"eq": 0.2, "comp": 0.16}, 3)
    at = instant(found)
    assert at.rung(256).load - at.rung(256).spread > 0.1
    assert verdict(found, at).kind == "work"


def test_on_one_core_all_is_work():
    said = said_of(session(track("a", "eq"), track("b", "eq")), {"eq": 0.6}, 1)
    assert said.kind == "work"
    assert "40 % of the deadline must go" in said.advice


def test_where_both_bounds_fit_waiting_is_the_matter_and_other_ways_are_tried():
    of = session(
        *(track(f"t{k}", "eq", output="Band") for k in range(5)),
        bus("Band", "comp"),
        bus("main", "limit", kind="main", output=None),
    )
    found = surveyed(of, {"eq": 0.3, "comp": 0.1, "limit": 0.1}, 4)
    at = instant(found)
    said = verdict(found, at)
    assert (at.rung(256).load, at.rung(256).spread) == (pytest.approx(0.8), pytest.approx(0.425))
    tight = survey(msgspec.structs.replace(of, limit=0.6), Plan(), found.now.cards, Machine(4), 256)
    said = verdict(tight, instant(tight))
    assert said.kind == "waiting"
    assert "evenly spread, the work would need 43 %" in said.advice
    divided = outlook(tight, instant(tight)).verdict.advice
    there = msgspec.structs.replace(of, host=Host(parts=4))
    load = float(load_map(case(prepare(there, found.now.cards), Machine(4), 256)).load.max())
    assert f"A host that computes the block in 4 parts would take {percent(load)}" in divided


def test_what_fits_says_how_much_stays_free():
    said = said_of(session(track("a", "eq")), {"eq": 0.3}, 2)
    assert said.kind == "fits"
    assert not said.overload
    assert "70 % of the deadline stays free" in said.advice


def test_without_plugins_there_is_nothing_to_fit():
    of = session(track("a"), track("b"), bus("Hall"))
    said = said_of(of, {}, 2)
    assert (said.kind, said.headline) == ("fits", "There are no plugins in this session.")
    assert said.advice == "Tracks that only play cost next to nothing. Plugins are added on Session."
    little, much = (msgspec.structs.replace(of, host=Host(strip_overhead=share * DEADLINE)) for share in (0.02, 0.5))
    assert "The host itself takes 8.0 % of the 5.33 ms deadline." in said_of(little, {}, 1).advice
    assert said_of(much, {}, 1).headline.startswith("Overloads")


def test_between_limit_and_deadline_is_tight_not_overloaded():
    said = said_of(session(track("a", "eq")), {"eq": 0.9}, 1)
    assert said.headline.startswith("Tight")
    assert not said.overload


def test_nothing_measured_is_not_a_load_of_nothing():
    said = said_of(session(track("a", "eq"), track("b", "comp")), {}, 2)
    assert said.kind == "unknown"
    assert "2 plugins have no figure" in said.advice


def test_nothing_measured_gives_no_buffer_size_a_good_word():
    found = survey(session(track("a", "eq")), Plan(), {}, Machine(2), 256)
    assert {rung.word for rung in instant(found).rungs} == {"not known"}


def test_with_what_is_missing_a_load_is_at_least_so_much():
    said = said_of(session(track("a", "eq"), track("b", "comp")), {"eq": 0.1}, 2)
    assert ".  At least 10 %" in said.headline and said.advice.startswith("At most 90 % of the deadline stays free")
    assert "1 plugin has no figure and counts as nothing" in said.advice


def test_a_host_that_takes_most_of_the_time_itself_is_told():
    of = session(*(track(f"t{k}", "eq") for k in range(20)), host=Host(0, 0.05 * DEADLINE))
    said = said_of(of, {"eq": 0.01}, 1)
    assert said.kind == "overhead"
    assert "% of it is the host's own" in said.advice


def hosted(seed):
    """A random session in a random host, with a limit below its load."""
    rng = random.Random(seed)
    of = random_session(rng)
    host = Host(
        0, rng.uniform(0, 3e-5), rng.uniform(0, 3e-6), rng.choice((0, 0, 1024)), listed=rng.random() < 0.3,
        parts=rng.choice((1, 1, 2)),
    )  # fmt: skip
    strips = tuple(msgspec.structs.replace(s, armed=s.id == "t1" and host.read_ahead > 0) for s in of.strips)
    cards = random_cards(rng, of)
    of = msgspec.structs.replace(of, strips=strips, host=host)
    machine = Machine(rng.randint(1, 4))
    load = float(survey(of, Plan(), cards, machine, 256).after.load.max())
    return survey(msgspec.structs.replace(of, limit=load * rng.uniform(0.3, 0.95)), Plan(), cards, machine, 256)


@pytest.mark.parametrize("seed", range(often(20)))
def test_what_stands_in_the_way_does_and_following_the_advice_lowers_the_load_as_said(seed):
    found = hosted(seed)
    at = instant(found)
    limit, rung, judged = found.session.limit, at.rung(256), at.judged
    if judged.kind == "chain":
        # More cores do not help: with any number of them the chain is still too long.
        many = survey(found.session, Plan(), found.now.cards, Machine(64), 256)
        assert instant(many, at.second).rung(256).load > limit
    if judged.kind in ("work", "overhead"):
        # Even the best order of a schedule cannot be shorter than the even spread.
        assert rung.spread > limit
        assert judged.over == pytest.approx(rung.spread - limit)
    if judged.kind == "waiting":
        assert max(rung.spread, rung.chain) <= limit < rung.load
    best = outlook(found, at).help
    if best is not None:
        after = survey(found.session, Plan(best.decisions), found.now.cards, found.machine, 256)
        assert instant(after, at.second).rung(256).load == pytest.approx(best.load, abs=1e-12)
        assert best.load < rung.load
