"""The house instruments: pitch, partials, voices, and the two ways to read between samples."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from nimbleload.core.session.controllers import BEND, PEDAL
from nimbleload.probe.formats.hosted import Control, Note
from tests.helpers.run_house import RATE, load, run

SILENCE = np.zeros((2, 1 << 16), np.float32)


def spectrum(out: np.ndarray):
    """Frequencies and amplitudes of the steady part."""
    steady = out[0, 8192:57344].astype(float)
    window = signal.windows.blackmanharris(len(steady))
    return np.fft.rfftfreq(len(steady), 1 / RATE), 2 * np.abs(np.fft.rfft(steady * window)) / window.sum()


def amplitude_at(out: np.ndarray, frequency: float) -> float:
    steady = out[0, 8192:57344].astype(float) * signal.windows.blackmanharris(49152)
    turn = np.exp(-2j * np.pi * frequency / RATE * np.arange(len(steady)))
    return float(2 * abs(np.sum(steady * turn)) / signal.windows.blackmanharris(49152).sum())


@pytest.mark.parametrize(
    ("name", "key", "frequency"),
    [("pipework", 69, 440.0), ("pipework", 45, 110.0), ("cask", 69, 440.0), ("cask", 57, 220.0)],
)
def test_a_key_has_its_pitch(name, key, frequency):
    out = run(load(name, voices=1, partials=1), SILENCE, notes=(Note(key, True),))
    at, amplitudes = spectrum(out)
    assert at[np.argmax(amplitudes)] == pytest.approx(frequency, abs=1.0)


@pytest.mark.parametrize("name", ["pipework", "cask"])
def test_partial_h_has_one_hth_of_the_first(name):
    values = {"quality": 1} if name == "cask" else {}
    out = run(load(name, partials=5, **values), SILENCE, notes=(Note(57, True),))
    first = amplitude_at(out, 220)
    assert [amplitude_at(out, 220 * h) / first for h in range(2, 6)] == pytest.approx(
        [1 / h for h in range(2, 6)], rel=0.02
    )
    assert amplitude_at(out, 220 * 6) < first * 1e-3


def test_partials_above_what_the_rate_can_hold_are_left_out():
    out = run(load("pipework", partials=64), SILENCE, notes=(Note(93, True),))  # 1760 Hz
    at, amplitudes = spectrum(out)
    assert amplitudes[at > 0.46 * RATE].max() < 1e-5


@pytest.mark.parametrize("name", ["pipework", "cask"])
def test_notes_add_up_and_a_release_dies_away(name):
    single = [run(load(name), SILENCE, notes=(Note(k, True),)) for k in (60, 67)]
    both = run(load(name), SILENCE, notes=(Note(60, True), Note(67, True)))
    assert both == pytest.approx(single[0] + single[1], abs=1e-5)
    hosted = load(name, release=50)
    run(hosted, SILENCE[:, :8192], notes=(Note(60, True),))
    out = run(hosted, SILENCE, notes=(Note(60, False),))
    assert np.abs(out[:, :256]).max() > 1e-3
    assert not out[:, -8192:].any()


@pytest.mark.parametrize("name", ["pipework", "cask"])
def test_with_no_voice_free_the_oldest_note_gives_way(name):
    hosted = load(name, voices=2, partials=1)
    run(hosted, SILENCE[:, :1024], notes=(Note(57, True),))
    run(hosted, SILENCE[:, :1024], notes=(Note(64, True),))
    out = run(hosted, SILENCE, notes=(Note(69, True),))
    assert amplitude_at(out, 440) > 0.05
    assert amplitude_at(out, 329.6) > 0.05
    assert amplitude_at(out, 220) < 1e-4


def test_the_finer_reading_has_less_noise():
    noise = []
    for quality in (0, 1):
        out = run(load("cask", partials=20, quality=quality), SILENCE, notes=(Note(54, True),))
        at, amplitudes = spectrum(out)
        from_partial = np.abs((at + 92.5) % 185.0 - 92.5)  # key 54 sounds at 185.0 Hz
        noise.append(amplitudes[(from_partial > 30) & (at > 100)].max() / amplitudes.max())
    assert noise[0] > 1e-4
    assert noise[1] < noise[0] / 30


@pytest.mark.parametrize("name", ["pipework", "cask"])
def test_without_notes_nothing_sounds(name):
    assert not run(load(name), SILENCE[:, :4096]).any()


@pytest.mark.parametrize("name", ["pipework", "cask"])
def test_a_pedal_holds_what_is_let_go_until_it_is_up(name):
    hosted = load(name, release=50, partials=1)
    down, up = Control(PEDAL, 1.0), Control(PEDAL, 0.0)
    run(hosted, SILENCE[:, :8192], notes=(Note(69, True), down))
    held = run(hosted, SILENCE, notes=(Note(69, False),))
    assert amplitude_at(held, 440) > 0.05
    # A bend, another controller and half a pedal's way are no pedal.
    still = run(hosted, SILENCE, notes=(Control(BEND, 0.0), Control(1, 0.0), Control(PEDAL, 64 / 127)))
    assert amplitude_at(still, 440) > 0.05
    after = run(hosted, SILENCE, notes=(up,))
    assert not after[:, -8192:].any()
    # Up it holds nothing, and a key that is down goes on without it.
    run(hosted, SILENCE[:, :8192], notes=(Note(69, True), down))
    kept = run(hosted, SILENCE, notes=(up,))
    assert amplitude_at(kept, 440) > 0.05
    assert not run(hosted, SILENCE, notes=(Note(69, False),))[:, -8192:].any()


def test_a_key_that_is_struck_again_ends_what_the_pedal_held_of_it():
    hosted = load("pipework", release=50, partials=1)
    run(hosted, SILENCE[:, :8192], notes=(Note(69, True), Control(PEDAL, 1.0)))
    run(hosted, SILENCE[:, :8192], notes=(Note(69, False),))
    again = run(hosted, SILENCE, notes=(Note(69, True),))
    one = run(load("pipework", partials=1), SILENCE, notes=(Note(69, True),))
    assert amplitude_at(again, 440) == pytest.approx(amplitude_at(one, 440), rel=0.01)
