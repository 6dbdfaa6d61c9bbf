"""The example: large enough, whole, the same every time, and every figure in it marked."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.cards.card import MEASURED
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import BUFFER_SIZES
from nimbleload.core.session.routing import build
from nimbleload.core.survey import instant, survey
from nimbleload.demo.cards import as_sample, sample_cards
from nimbleload.demo.session import BUFFER, MACHINE, NAME, SECTIONS, session
from nimbleload.house.catalogue import complete
from nimbleload.probe.formats import house
from tests.helpers.sessions import card, use


def test_it_is_as_large_as_a_heavy_session():
    of = session()
    assert len(of.strips) >= 72
    assert of.name == NAME
    assert of.length == 720.0
    assert len(of.sections) == 5
    assert sum(s.armed for s in of.strips) == 1
    assert {s.kind for s in of.strips} == {"track", "bus", "return", "main"}
    assert 4 <= sum(len(s.uses()) for s in of.strips) / len(of.strips) <= 10
    build(of)


def test_it_is_the_same_every_time():
    assert msgspec.json.encode(session()) == msgspec.json.encode(session())


def test_clips_lie_inside_the_piece_in_order():
    for strip in session().strips:
        for clip in strip.clips:
            assert 0 <= clip.start < clip.end <= 720
        if strip.kind == "track":
            assert strip.clips


def test_every_plugin_has_a_sample_card_for_every_size_and_every_figure_is_marked():
    cards = sample_cards()
    assert set(cards) == session().card_keys().keys() | session().variant_uses().keys()
    for found in cards.values():
        assert {c.provenance for c in found.cells} == {"sample"}
        assert {(c.buffer, c.condition) for c in found.cells} == {(b, c) for b in BUFFER_SIZES for c in MEASURED}
        assert all(c.mean > 0 for c in found.cells)


def test_no_card_takes_what_this_program_compiles_for_the_loading_of_a_plugin():
    assert max(card.upkeep.load for card in sample_cards().values()) < 0.5


def test_settings_are_ones_that_the_processors_have_and_all_of_them_load():
    for key, uses in session().card_keys().items():
        complete(key.identifier, dict(uses[0].setting.values))
        assert house.load(uses[0], 48000, 256).call


def test_the_storm_overloads_on_six_cores_and_the_shore_does_not():
    of = survey(session(), Plan(), sample_cards(), MACHINE, BUFFER)
    assert SECTIONS[1].start < of.worst_second() < SECTIONS[2].start
    at = instant(of)
    assert at.rung(BUFFER).load > 1.1
    assert at.judged.is_overload
    assert instant(of, 500.0).rung(BUFFER).load < 0.8
    assert instant(of, 30.0).rung(BUFFER).load < 0.8


def test_a_shipped_card_is_marked_and_keeps_a_short_sequence():
    measured = card(use("eq"), 1.23456789012e-4)
    measured = msgspec.structs.replace(
        measured, cells=tuple(msgspec.structs.replace(c, sequence=bytes(4000)) for c in measured.cells)
    )
    shipped = as_sample(measured)
    assert measured.slowing and not (shipped.slowing or shipped.paced)
    assert {c.provenance for c in shipped.cells} == {"sample"}
    assert shipped.cells[0].mean == pytest.approx(measured.cells[0].mean, abs=1e-9)
    assert {(c.condition, len(c.sequence_ns())) for c in shipped.cells} == {("sounding", 128), ("silent", 0)}
