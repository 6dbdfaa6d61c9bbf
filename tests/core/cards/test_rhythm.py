"""Bursts are found where there are some, with their period; and not where there are none."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import CostCard, Polyphony
from nimbleload.core.cards.rhythm import rhythm
from nimbleload.core.cards.summary import summarise
from nimbleload.core.told.card import card_sentences
from tests.helpers.sessions import card, use


def sequence(period: int, blocks: int, ordinary=2000, burst=90_000, noise=100, phase=0) -> np.ndarray:
    own = np.full(blocks, ordinary) + np.random.default_rng(period).integers(0, noise + 1, blocks)
    own[phase::period] += burst - ordinary
    return own.astype(np.int32)


@pytest.mark.parametrize("period", [2, 3, 4, 7, 16, 32, 100])
@pytest.mark.parametrize("phase", [0, 1])
def test_the_period_of_bursts_is_found(period, phase):
    found = rhythm(sequence(period, 8 * period + 3, phase=phase))
    assert found is not None
    assert found.period == period
    assert found.is_bursty
    assert found.ordinary == pytest.approx(2e-6, rel=0.1)
    assert found.burst == pytest.approx(90e-6, rel=0.05)


def test_bursts_within_bursts_have_the_longer_period_when_they_differ_much():
    own = sequence(4, 512, burst=20_000)
    own[::32] += 200_000
    found = rhythm(own)
    assert found is not None
    assert found.period == 32


def test_noise_has_no_period():
    own = np.random.default_rng(1).exponential(5000, 2000).astype(np.int32)
    assert rhythm(own).period is None


def test_an_even_cost_is_no_burst():
    even = rhythm(np.full(500, 30_000, np.int32))
    assert even is not None
    assert not even.is_bursty
    assert even.period is None


def test_too_few_blocks_say_nothing():
    assert rhythm(np.array([1, 2, 3], np.int32)) is None


def test_sentences_tell_bursts_silence_latency_and_tail():
    cell = summarise(sequence(16, 512).astype(np.int64)[None, :], False, 48000, 256, "sounding")
    cell = msgspec.structs.replace(cell, shared=1.6)
    quiet = summarise(np.full((1, 64), 100), True, 48000, 256, "silent")
    said = " ".join(card_sentences(CostCard(use("x").card_key(), "Hall", (cell, quiet), 480, 2.5), 48000, 256))
    assert "2.0 µs as a rule, 90 µs every 16 blocks" in said
    assert "While nothing sounds it takes 1." in said
    assert "latency of 480 samples (10.0 ms)" in said
    assert "Sounds on for 2.5 s" in said
    assert "Others shared the core while this was measured: the figure may be too high by up to 60 %." in said


def test_sentences_tell_what_muting_does_not_save():
    assert any("muting it saves nothing" in s for s in card_sentences(card(use("eq"), 1e-4), 48000, 256))
    assert any(
        "Costs more while nothing sounds: 200 %" in s for s in card_sentences(card(use("eq"), 1e-4, 2e-4), 48000, 256)
    )


def test_a_failure_is_told_first_and_nothing_is_made_up():
    failed = msgspec.structs.replace(card(use("eq"), 1e-4), cells=(), failure="crashed: SIGSEGV")
    assert card_sentences(failed, 48000, 256) == ["eq crashed: SIGSEGV."]
    assert card_sentences(CostCard(use("eq").card_key()), 48000, 256) == ["Not measured yet."]


@pytest.mark.parametrize(
    ("seconds", "words"),
    [
        ((1e-4, 5e-4, 1e-3), "With one note it takes 10 % of what all 8 do, with 4 notes 50 %."),
        ((9.5e-4, 1e-3, 1e-3), "With one note it takes as much as with all 8."),
    ],
)
def test_an_instrument_says_what_fewer_notes_take(seconds, words):
    synth = use("synth", voices=8)
    of = msgspec.structs.replace(card(synth, 1e-3), polyphony=(Polyphony(48000, 256, (1, 4, 8), seconds),))
    assert words in card_sentences(of, 48000, 256)
    assert not any("With one note" in said for said in card_sentences(card(synth, 1e-3), 48000, 256))
