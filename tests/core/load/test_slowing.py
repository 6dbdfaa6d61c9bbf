"""Plugins that lower the clock of their core make the others dearer: loads that can be worked out by hand."""

from __future__ import annotations

import math

import msgspec
import pytest

from nimbleload.core.cards.card import CostCard
from nimbleload.core.cards.slowing import Slowing
from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.load.figures import Figures
from nimbleload.core.optimise.suggest import suggest
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import Variant
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.card import card_sentences
from nimbleload.core.told.verdict import verdict
from tests.helpers.sessions import RATE, cards_for, session, setting, track, use

BLOCK = 256 / RATE


def two_tracks(seconds=0.3 * BLOCK, by=1.2, row=1.2):
    """Two tracks of which each costs 30 % of a block; the first computes with wide vectors."""
    of = session(track("wide", "w"), track("plain", "p"))
    cards = cards_for(of, {"w": 0.3 * BLOCK, "p": 0.3 * BLOCK})
    slowing = (Slowing(RATE, 256, by, seconds, row),)
    return of, {
        key: msgspec.structs.replace(each, slowing=slowing if key.identifier == "w" else ())
        for key, each in cards.items()
    }


def load(of, cards, plan=None, **more):
    return float(survey(of, plan or Plan(), cards, Machine(1, **more), 256).after.load.max())


def test_what_stands_beside_it_takes_longer_and_it_does_not():
    of, cards = two_tracks()
    hit = 1 - math.exp(-0.3 / 0.6)
    assert load(of, cards) == pytest.approx(0.3 + 0.3 * (1 + 0.2 * hit))
    # One that was measured at the full clock in a row is hit by itself, too.
    assert load(*two_tracks(row=1.0)) == pytest.approx(0.6 * (1 + 0.2 * hit))


def test_for_longer_than_everything_takes_it_hits_nearly_everything():
    assert load(*two_tracks(seconds=10 * BLOCK)) == pytest.approx(0.3 + 0.3 * 1.2, rel=1e-6)


def test_without_it_the_other_is_as_cheap_as_it_was_measured():
    of, cards = two_tracks()
    frozen = Plan((Decision("freeze", "wide"),))
    assert load(of, cards, frozen) == pytest.approx(0.3)
    assert load(of, {key: msgspec.structs.replace(c, slowing=()) for key, c in cards.items()}) == pytest.approx(0.6)
    # Of another computer it is not known what its clock does.
    assert load(of, cards, speed=1.0, measured_cores=2) == pytest.approx(0.6)


@pytest.mark.parametrize(
    "decision", [Decision("freeze", "other"), Decision("lighten", "other", "other/p", variant="v")]
)  # fmt: skip
def test_no_decision_makes_what_stays_live_dearer(decision):
    """With less work beside it a larger share of what is left falls into the lower clock; that is left out."""
    of, cards = two_tracks()
    of = session(*of.strips[:2], track("other", "p"))
    key = of.strips[2].inserts[0].card_key()
    variant = Variant(key, "v", setting(q=0))
    lighter = variant.applied(of.strips[2].inserts[0])
    cards[lighter.card_key()] = msgspec.structs.replace(cards[key], key=lighter.card_key(), cells=tuple(
        msgspec.structs.replace(cell, mean=cell.mean / 10) for cell in cards[key].cells
    ))  # fmt: skip
    of = msgspec.structs.replace(of, variants=(variant,))
    ids = [strip.id for strip in of.strips]
    rows = (instant(survey(of, plan, cards, Machine(1), 256)).strip_costs for plan in (Plan(), Plan((decision,))))
    costs = [dict(zip(ids, row.tolist(), strict=True)) for row in rows]
    assert costs[1]["other"] < costs[0]["other"] / 2
    assert costs[1]["plain"] == pytest.approx(costs[0]["plain"])


def test_it_is_a_part_of_the_load_with_a_name_and_the_plan_counts_on_it():
    of, cards = two_tracks(seconds=10 * BLOCK, by=1.5, row=1.5)
    tight = msgspec.structs.replace(of, limit=0.4)
    found = survey(tight, Plan(), cards, Machine(1), 256)
    at = instant(found)
    assert at.parts.slowed == pytest.approx(0.15, rel=1e-4) and at.parts.own == pytest.approx(0.6, rel=1e-4)
    words = "15 % of it is this computer's, because it lowers its clock beside plugins that compute with wide vectors."
    assert words in verdict(found, at).advice
    # 40 % can be had by freezing the wide one, which leaves 30; freezing the plain one would leave 30 as well.
    assert suggest(found).load == pytest.approx(0.3)


def test_a_track_that_never_plays_brings_nothing():
    of, cards = two_tracks()
    strips = tuple(msgspec.structs.replace(s, enabled=s.id != "wide") for s in of.strips)
    assert load(msgspec.structs.replace(of, strips=strips), cards) == pytest.approx(0.3)


def test_it_is_read_between_the_sizes_on_the_line_over_the_logarithm():
    key = use("a").card_key()
    slowing = (Slowing(48000, 512, 1.3, 4e-4, 1.0), Slowing(48000, 64, 1.1, 1e-4, 1.2), Slowing(44100, 64, 2.0, 1.0))
    figures = Figures({key: CostCard(key, slowing=slowing)}, (key,), 48000)
    for size, share in ((16, 0.0), (64, 0.0), (128, 1 / 3), (256, 2 / 3), (512, 1.0), (4096, 1.0)):
        by, seconds, row = figures.slowing(size)
        told = (1.1 + 0.2 * share, 1e-4 + 3e-4 * share, 1.2 - 0.2 * share)
        assert (by[0], seconds[0], row[0]) == pytest.approx(told)


def test_the_card_says_so():
    _, cards = two_tracks(seconds=0.65e-3, by=1.148)
    (said,) = (
        words for card in cards.values() for words in card_sentences(card, RATE, 256) if "Lowers the clock" in words
    )
    assert said.startswith(
        "Lowers the clock of its core: for 0.65 ms after a block of 256 samples everything takes 15 % longer"
    )
