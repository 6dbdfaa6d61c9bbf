"""Truthfulness, on plugins whose truth is known."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.cards.card import Cell, CostCard, Truth
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.told.card import card_sentences
from nimbleload.probe.formats import clap
from nimbleload.probe.signal import chord, musical
from nimbleload.probe.timed import TimedLoop
from nimbleload.probe.truth import find_truth, null_depth, true_latency
from tests.helpers.rogue import rogue_use, zam_library
from tests.helpers.run_house import load
from tests.helpers.sessions import use


def truth_of(hosted, notes=()) -> Truth:
    return find_truth(TimedLoop(hosted, musical(len(hosted.inputs), 48000)), notes)


@pytest.mark.parametrize(
    ("name", "values"),
    [
        ("ballast", {"lookahead": 5, "threshold": 0}), ("tar", {"oversampling": 4, "drive": 0}),
        ("vault", {"partition": 256, "wet": 0}), ("sluice", {"threshold": -80}),
    ],
)  # fmt: skip
def test_the_house_processors_have_the_latency_they_report_and_one_sound(name, values):
    hosted = load(name, **values)
    found = truth_of(hosted)
    assert found.latency == hosted.latency
    assert found.null_db is not None
    assert found.null_db < -90
    assert found.finite
    assert not found.silent


def test_a_flat_equaliser_is_idle_and_a_working_one_is_not():
    assert truth_of(load("shoreline", gain=0)).idle
    assert not truth_of(load("shoreline", gain=6)).idle


def test_a_false_latency_is_found_out(rogue):
    hosted = clap.load(rogue_use("good"), str(rogue), 48000, 512)
    found = truth_of(hosted)
    assert hosted.latency == 77
    assert found.latency == 0


def test_an_instrument_is_judged_by_its_notes():
    found = truth_of(load("pipework"), chord(3))
    assert found.latency is None
    assert found.null_db is not None
    assert found.null_db < -90
    assert truth_of(load("pipework")).silent


class Fake:
    """A plugin made in Python: `out` is what each block gives, from (input, count of blocks so far)."""

    def __init__(self, out):
        self._out, self.blocks = out, 0

    def refresh(self, frames):
        self.blocks = 0

    def capture(self, frames, blocks, notes=(), gain=1.0, source=None):
        heard, pieces = self.source if source is None else source, []
        for k in range(blocks):
            pieces.append(self._out(gain * heard[:, k * frames : (k + 1) * frames], frames, k))
        return np.concatenate(pieces, axis=1).astype(np.float32)

    source = musical(2, 48000)
    latency = 0


class Late(Fake):
    """One that only comes so many samples late, and does not say so."""

    def __init__(self, late):
        super().__init__(lambda x, *_: x)
        self._late = late

    def capture(self, frames, blocks, *more, **others):
        made = super().capture(frames, blocks, *more, **others)
        return np.concatenate((np.zeros((2, self._late), np.float32), made), axis=1)[:, : made.shape[1]]


@pytest.mark.parametrize(
    "out",
    [
        lambda x, *_: np.clip(x, -0.98, 0.98),  # a limiter that only meets peaks
        lambda x, *_: np.clip(x, -2.0, 2.0),  # what keeps a bus from going far beyond full scale
        lambda x, *_: np.where(np.abs(x) < 1e-5, 0, x),  # a gate
    ],
)
def test_what_leaves_the_middle_alone_does_something(out):
    assert not find_truth(Fake(out)).idle
    assert find_truth(Fake(lambda x, *_: x)).idle


def test_what_is_silent_for_a_second_is_not_silent():
    found = find_truth(Late(60_000))
    assert (found.silent, found.latency) == (False, 60_000)
    assert find_truth(Fake(lambda x, *_: np.zeros_like(x))).silent
    # What only moves its input does that: nothing makes up for what it does not report.
    assert not found.idle
    short = find_truth(Late(30))
    assert (short.latency, short.idle) == (30, False)


def test_another_sound_at_another_size_is_found():
    fake = Fake(lambda x, frames, k: x * (1.0 if frames == 64 else 0.9))
    assert find_truth(fake).null_db == pytest.approx(-20, abs=0.1)


def test_what_never_sounds_the_same_twice_is_not_judged():
    rng = np.random.default_rng(1)
    fake = Fake(lambda x, frames, k: rng.standard_normal(x.shape))
    assert find_truth(fake).null_db is None


@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf])
def test_numbers_that_are_none_are_found(bad):
    fake = Fake(lambda x, frames, k: x if k != 3 else x * bad)
    assert not find_truth(fake).finite


@pytest.mark.parametrize("lag", [0, 1, 77, 5000])
def test_a_lag_is_found_in_noise_and_upside_down(lag):
    source = musical(1, 48000)[0, :24576]
    late = np.concatenate((np.zeros(lag, np.float32), source))[: len(source)]
    late = late + 0.1 * np.random.default_rng(2).standard_normal(len(late)).astype(np.float32) * late.std()
    assert true_latency(source, late) == lag
    assert true_latency(source, -late) == lag


def test_unrelated_sound_has_no_lag():
    rng = np.random.default_rng(3)
    source, other = rng.standard_normal((2, 24576)).astype(np.float32)
    assert true_latency(source, other) is None
    assert true_latency(source, np.zeros_like(source)) is None


def test_null_depth_is_in_decibels_of_the_first():
    one = np.ones((1, 100), np.float32)
    assert null_depth(one, one * 0.99) == pytest.approx(-40, abs=0.01)
    assert null_depth(one, one) == -200


def test_a_real_limiter_is_as_late_as_it_says():
    hosted = clap.load(
        PluginUse("x", PluginRef("clap", "com.zamaudio.ZamCompX2")), str(zam_library("ZamCompX2")), 48000, 512
    )
    assert truth_of(hosted).latency == hosted.latency == 0


@pytest.mark.parametrize(
    ("truth", "latency", "words"),
    [
        (Truth(latency=0), 77, "true latency is 0 samples, not 77"),
        (Truth(latency=2048), 1100, "true latency is 2048 samples, not 1100"),
        (Truth(latency=4800), 77, "Comes 4723 samples later than it reports, as what is a delay does"),
        (Truth(latency=0, null_db=-23.4), 0, "-23 dB of it are left"),
        (Truth(finite=False), 0, "NaN or infinity"),
        (Truth(silent=True), 0, "Nothing came out"),
        (Truth(latency=0, idle=True), 0, "it does nothing"),
    ],
)
def test_what_is_not_true_is_said(truth, latency, words):
    key = use("x").card_key()
    told = CostCard(key, "X", (Cell(48000, 256, "sounding", 1e-5),), latency, 0.0, None, truth)
    assert words in " ".join(card_sentences(told, 48000, 256))
    fine = CostCard(key, "X", told.cells, 0, 0.0, None, Truth(latency=3, null_db=-140))
    assert words not in " ".join(card_sentences(fine, 48000, 256))


class TestSuperposition:
    """f(a + b) against f(a) + f(b), for house processors whose arithmetic is known."""

    def test_an_equaliser_and_a_convolution_are_linear_to_rounding(self):
        assert truth_of(load("shoreline")).linear_db < -100
        assert truth_of(load("vault")).linear_db < -100

    @pytest.mark.parametrize(
        ("name", "values"), [("ballast", {"threshold": -40}), ("tar", {"drive": 18}), ("sluice", {})]
    )
    def test_what_bends_the_signal_is_not(self, name, values):
        assert truth_of(load(name, **values)).linear_db > -60

    def test_a_limiter_that_only_acts_at_the_top_and_noise_of_its_own(self):
        limiter = Fake(lambda x, frames, k: np.clip(x, -0.9, 0.9))
        assert find_truth(limiter).linear_db > -60
        hum = Fake(lambda x, frames, k: 0.5 * x + 0.01)
        assert find_truth(hum).linear_db < -100

    def test_an_instrument_has_no_input_to_add(self):
        notes = chord(4)
        assert truth_of(load("pipework", voices=4), notes).linear_db is None
