"""Plugins that mind how they are run, in every standard: what they take in a session is what is measured."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import CostCard, Inputs
from nimbleload.core.session.strips import Strip
from nimbleload.core.told.card import card_sentences
from nimbleload.probe import session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.inputs import FRAMES, GAP, find_inputs, hot, short_sounds
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Request
from nimbleload.probe.pace import Pace
from nimbleload.probe.signal import CHORD_CYCLE, musical
from nimbleload.probe.timed import TimedLoop, overhead_ns
from tests.helpers import known
from tests.helpers.often import each_of
from tests.helpers.sessions import card, session
from tests.helpers.sessions import use as plain_use

SIZES = (64, 1024)
TOLD = ("lv2", "clap", "vst3")


def measured(plugin: known.Known, voices: int = 0, details: bool = False) -> CostCard:
    of = session(Strip("a", "a", inserts=(plugin.use(voices=voices),), output="main"))
    jobs = [job._replace(details=details) for job in session_run.jobs(of, {}, SIZES)]
    *_, last = session_run.run(jobs, {}, effort=Effort(3, 0.02, rounds=1))
    return last.card


def least(card: CostCard, buffer: int, condition="sounding") -> float:
    return card.cell(48000, buffer, condition).sequence_ns().min() / 1e9


@pytest.mark.parametrize(("standard", "way"), each_of(TOLD, ["ONLY_ANNOUNCED", "SLOW_ELSEWHERE"]))
def test_a_plugin_is_switched_on_for_each_size_that_it_is_measured_at(standard, way, tmp_path, monkeypatch):
    """The one costs nothing at other sizes than its own, the other eight times as much: neither is what is found."""
    card = measured(known.installed(tmp_path, standard, monkeypatch, way))
    assert card.failure is None
    for buffer in SIZES:
        own = known.CALL + known.SAMPLE * buffer
        for condition in ("sounding", "silent"):
            assert own - 1e-7 < least(card, buffer, condition) < 3 * own
    # At both sizes that are compared it is switched on for them, so it is neither idle nor another plugin.
    assert not card.truth.idle


@pytest.mark.parametrize("standard", ["lv2", "clap"])
def test_what_a_plugin_loads_later_is_there_before_it_is_timed(standard, tmp_path, monkeypatch):
    card = measured(known.installed(tmp_path, standard, monkeypatch, "LOADS_LATER"))
    assert card.failure is None
    for buffer in SIZES:
        assert least(card, buffer) > known.CALL + known.SAMPLE * buffer - 1e-7


@pytest.mark.parametrize("standard", ["clap", "vst3"])
def test_a_plugin_that_says_it_fails_has_no_figures(standard, tmp_path, monkeypatch):
    card = measured(known.installed(tmp_path, standard, monkeypatch, "FAILS"))
    assert "says of itself that it failed in" in card.failure
    assert not [cell for cell in card.cells if cell.condition == "sounding"]


@pytest.mark.parametrize("standard", ["clap", "vst3"])
def test_no_plugin_is_called_with_a_size_that_it_was_not_switched_on_for(standard, tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, standard, monkeypatch)
    hosted = load(Request(plugin.use(), 48000, SIZES, str(plugin.path)))
    loop = TimedLoop(hosted, musical(1, 48000, 1.0))
    assert hosted.made_for == 64
    loop.run(64, 2)
    for call in (loop.run, loop.capture, loop.silent_peaks):
        with pytest.raises(ValueError, match="made for blocks of 64 was to be run with 1024"):
            call(1024, 1)
    loop.refresh(1024)
    loop.run(1024, 1)
    hosted.close()


@pytest.mark.parametrize(("standard", "way"), [
    ("lv2", "HELPERS"), ("vst3", "HELPERS"), ("clap", "CHILD"),
])  # fmt: skip
def test_what_threads_and_processes_of_a_plugin_compute_is_told_beside_its_cost(standard, way, tmp_path, monkeypatch):
    """They are made by the timed thread itself, and so would share its core and its priority, if nobody let them go."""
    card = measured(known.installed(tmp_path, standard, monkeypatch, way))
    assert card.failure is None
    for buffer in SIZES:
        for condition in ("sounding", "silent"):
            aside = card.cell(48000, buffer, condition).aside
            assert known.HELPED * 0.98 < aside < known.HELPED * 1.5
    # 100 µs in each block of 1.33 ms.
    said = next(words for words in card_sentences(card, 48000, 64) if "of its own also take" in words)
    assert 7 <= float(said.split("also take ")[1].split(" %")[0]) <= 11.5
    plain = measured(known.installed(tmp_path / "plain", "clap", monkeypatch))
    assert {cell.aside for cell in plain.cells} == {0.0}


def test_an_instrument_that_is_struck_costs_what_it_does_while_it_is_played(tmp_path, monkeypatch):
    """Its notes have died away long before the next ones: played once, it would be measured as silence."""
    card = measured(known.installed(tmp_path, "clap", monkeypatch, "DECAYS"), voices=3)
    for buffer in SIZES:
        struck = -(-known.STRUCK_SAMPLES // buffer) * buffer / CHORD_CYCLE
        least_mean = known.CALL + known.SAMPLE * buffer + known.BURST / known.PERIOD + known.STRUCK * struck
        mean = card.cell(48000, buffer, "sounding").sequence_ns().mean() / 1e9
        assert 0.98 * least_mean < mean < 1.3 * least_mean
        assert least(card, buffer, "silent") < known.CALL + known.SAMPLE * buffer + known.STRUCK


def test_held_notes_stay_as_many_as_they_are(tmp_path, monkeypatch):
    """The chord ends and begins anew in the same block: an organ's notes are held throughout."""
    card = measured(known.installed(tmp_path, "clap", monkeypatch), voices=3)
    for buffer in SIZES:
        own = known.CALL + known.SAMPLE * buffer + 3 * known.NOTE
        assert own - 1e-7 < least(card, buffer) < 1.3 * own


def blocks_over(signal: np.ndarray, level: float, begin: int, end: int) -> float:
    """The share of the blocks between two samples in which any channel is beyond a level."""
    parts = np.abs(signal[0, begin:end]).reshape(-1, FRAMES)
    return float((parts.max(axis=1) > level).mean())


@pytest.mark.parametrize("way", ["MINDS_PEAKS", None])
def test_what_a_plugin_takes_for_short_sounds_and_for_peaks(way, tmp_path, monkeypatch):
    """It takes 30 µs more in the second after its input ends, and by a flag 200 µs more for peaks: waited for by the
    clock, so that it can be no less, and hardly more."""
    plugin = known.installed(tmp_path, "clap", monkeypatch, *([way] if way else []))
    dense = musical(1, 48000)
    hosted = load(Request(plugin.use(), 48000, (FRAMES,), str(plugin.path)))
    found = find_inputs(hosted, dense, 48000, Pace(), overhead_ns(), 0.02, lambda: None)
    hosted.close()
    least = known.CALL + known.SAMPLE * FRAMES + known.BURST / known.PERIOD
    high = [blocks_over(signal, 0.7, GAP, 2 * GAP) for signal in (dense, short_sounds(dense), hot(dense))]
    wanted = [least, least + known.TAIL / 2, least]  # each gap is half silence
    if way:
        wanted = [seconds + known.PEAK * share for seconds, share in zip(wanted, high, strict=True)]
        assert high[2] > high[0]
    for got, seconds in zip((found.dense, found.short, found.hot), wanted, strict=True):
        assert 0.97 * seconds < got
    # Against each other, in one run, noise has little to say.
    assert found.short - found.dense > 0.8 * (wanted[1] - wanted[0])
    if way:
        assert found.hot - found.dense > 0.5 * (wanted[2] - wanted[0])


def test_what_other_input_costs_is_on_the_card_and_told(tmp_path, monkeypatch):
    card = measured(known.installed(tmp_path, "clap", monkeypatch, "MINDS_PEAKS"), details=True)
    said = " ".join(card_sentences(card, 48000, 64))
    assert "with short sounds and gaps between" in said
    assert "with peaks at full scale" in said


@pytest.mark.parametrize(("short", "hot_", "words"), [
    (10e-6, 10e-6, ""), (10e-6, 26e-6, "260 % with peaks at full scale."), (4e-6, 10.9e-6, "40 % with short sounds"),
])  # fmt: skip
def test_only_what_differs_by_more_than_a_tenth_is_told(short, hot_, words):
    of = msgspec.structs.replace(card(plain_use("x"), 10e-6), inputs=Inputs(48000, 512, 10e-6, short, hot_))
    said = " ".join(card_sentences(of, 48000, 256))
    assert ("What it takes goes by" in said) == bool(words)
    assert words in said
