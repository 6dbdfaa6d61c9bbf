"""The house effects against closed forms and SciPy: what they do to sound, not only that they run."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import linalg, signal

from nimbleload.house import convolution, fourier, reverb, saturator
from tests.helpers.run_house import RATE, impulse, load, noise, run, sine


def response(name: str, frequencies, count=1 << 15, **values):
    """The magnitude response in dB, from the impulse response."""
    out = run(load(name, **values), impulse(count))
    at = np.asarray(frequencies) / (RATE / out.shape[1])
    return 20 * np.log10(np.abs(np.fft.fft(out[0]))[np.round(at).astype(int)])


class TestEqualiser:
    def test_a_peak_has_its_gain_at_its_frequency_and_the_analogue_shape_beside_it(self):
        gain, q, centre = 9.0, 2.0, 1000.0
        frequencies = np.array([100, 400, 700, 1000, 1500, 3000, 8000])
        amount = 10 ** (gain / 40)
        s = 1j * np.tan(np.pi * frequencies / RATE) / np.tan(np.pi * centre / RATE)
        expected = 20 * np.log10(np.abs((s**2 + s * amount / q + 1) / (s**2 + s / (amount * q) + 1)))
        found = response("shoreline", frequencies, bands=1, gain=gain, q=q, lowest=centre, highest=centre)
        assert found == pytest.approx(expected, abs=0.02)

    def test_all_bands_equal_scipys_cascade(self):
        from nimbleload.house.equaliser import peaking

        bands, gain = 6, 5.0
        centres = np.geomspace(60, 12000, bands)
        sos = []
        for k, centre in enumerate(centres):
            b0, b1, b2, a1, a2 = peaking(centre, gain * (-1) ** k, 1.2, RATE)
            sos.append([b0, b1, b2, 1.0, a1, a2])
        x = noise(4096)
        assert run(load("shoreline", bands=bands, gain=gain), x)[0] == pytest.approx(
            signal.sosfilt(sos, x[0]), abs=1e-5
        )

    def test_no_gain_changes_nothing(self):
        x = noise(2048)
        assert run(load("shoreline", gain=0), x) == pytest.approx(x, abs=1e-6)


class TestCompressor:
    @pytest.mark.parametrize("level", [-40.0, -24.0, -12.0, 0.0])
    def test_the_static_curve(self, level):
        x = np.full((2, RATE), 10 ** (level / 20), np.float32)
        out = run(load("ballast", threshold=-24, ratio=4, makeup=2), x)[0, -1]
        over = max(level + 24, 0.0)
        assert 20 * np.log10(out) == pytest.approx(level - over * (1 - 1 / 4) + 2, abs=0.01)

    def test_the_audio_waits_as_long_as_it_says(self):
        hosted = load("ballast", lookahead=5, threshold=0)
        out = run(hosted, impulse(1024))
        assert hosted.latency == 240
        assert int(np.argmax(np.abs(out[0]))) == 240

    def test_look_ahead_catches_the_start_of_a_burst(self):
        x = np.zeros((2, 9600), np.float32)
        x[:, 4800:] = 1.0
        peaks = [
            run(load("ballast", attack=1, lookahead=wait, threshold=-20, ratio=10), x)[0].max() for wait in (0, 10)
        ]
        assert peaks[0] > 0.9
        assert peaks[1] < 0.2


class TestGate:
    @pytest.mark.parametrize(("level", "gain"), [(-30.0, 1.0), (-60.0, 10 ** (-60 / 20))])
    def test_open_above_the_threshold_and_at_the_floor_below(self, level, gain):
        x = np.full((2, RATE), 10 ** (level / 20), np.float32)
        out = run(load("sluice", threshold=-45, floor=-60), x)[0, -1]
        assert out == pytest.approx(x[0, -1] * gain, rel=0.01)

    def test_it_stays_open_for_its_hold(self):
        x = np.full((2, RATE), 1e-3, np.float32)
        x[:, :480] = 0.5
        out = run(load("sluice", hold=100, release=10, threshold=-30, floor=-90), x, frames=128)[0]
        assert out[480 + 4700] == pytest.approx(1e-3, rel=0.01)
        assert out[480 + 4800 + 4800] < 1e-5

    def test_the_filter_keeps_rumble_from_opening_it(self):
        rumble = sine(30, RATE, 0.05)
        open_without = run(load("sluice", threshold=-30), rumble)[0, RATE // 2 :]
        closed_with = run(load("sluice", threshold=-30, filter=1), rumble)[0, RATE // 2 :]
        assert np.abs(open_without).max() == pytest.approx(0.05, rel=0.02)
        assert np.abs(closed_with).max() < 0.002


class TestSaturator:
    def test_without_oversampling_it_is_tanh(self):
        x = noise(2048, 0.5)
        drive = 10 ** (12 / 20)
        assert run(load("tar", drive=12, oversampling=1), x) == pytest.approx(np.tanh(x * drive) / drive, abs=1e-6)

    @pytest.mark.parametrize("factor", [2, 4, 8])
    def test_a_quiet_signal_passes_unchanged_but_late(self, factor):
        hosted = load("tar", drive=0, oversampling=factor)
        x = sine(1000, 4096, 1e-3)
        out = run(hosted, x)[0]
        late = hosted.latency
        assert late == 32
        assert out[256 + late : 4000] == pytest.approx(x[0, 256 : 4000 - late], abs=2e-6)

    def test_oversampling_keeps_overtones_from_folding_back(self):
        # 9 kHz: its third overtone at 27 kHz folds to 21 kHz without oversampling.
        folded = []
        for factor in (1, 8):
            out = run(load("tar", drive=24, oversampling=factor), sine(9000, 1 << 15, 0.9))[0, 4096:28672]
            spectrum = np.abs(np.fft.rfft(out * signal.windows.blackmanharris(len(out))))
            bin_of = round(21000 * len(out) / RATE)
            folded.append(20 * np.log10(spectrum[bin_of - 3 : bin_of + 4].max() / spectrum.max()))
        assert folded[0] > -20
        assert folded[1] < folded[0] - 40

    def test_it_rests_in_silence_and_wakes_with_sound(self):
        hosted = load("tar", drive=6, oversampling=4)
        quiet = np.zeros((2, 4096), np.float32)
        x = np.concatenate((noise(1024), quiet, noise(1024, seed=2)), axis=1)
        out = run(hosted, x)
        assert not out[:, 3000:5000].any()
        again = run(load("tar", drive=6, oversampling=4), np.concatenate((quiet[:, :512], noise(1024, seed=2)), axis=1))
        assert out[:, -1024:] == pytest.approx(again[:, -1024:], abs=1e-6)


class TestFourier:
    @pytest.mark.parametrize("size", [2, 8, 64, 1024, 16384])
    def test_equals_numpy(self, size):
        rng = np.random.default_rng(size)
        x = rng.standard_normal(size) + 1j * rng.standard_normal(size)
        real, imag = x.real.astype(np.float32), x.imag.astype(np.float32)
        fourier.transform(real, imag, fourier.twiddles(size))
        assert real + 1j * imag == pytest.approx(np.fft.fft(x), abs=2e-5 * size**0.5 * np.log2(size))


class TestConvolution:
    @pytest.mark.parametrize(("frames", "partition"), [(64, 256), (256, 256), (100, 128), (1000, 256)])
    def test_equals_direct_convolution_after_its_latency(self, frames, partition):
        hosted = load("vault", seconds=0.1, partition=partition, wet=1)
        x = noise(12000)
        out = run(hosted, x, frames)
        room = convolution.room(0.1, RATE)
        for channel in range(2):
            expected = signal.fftconvolve(x[channel], room)[: out.shape[1] - partition]
            assert out[channel, partition:] == pytest.approx(expected, abs=2e-5)
        assert hosted.latency == partition

    def test_dry_sound_is_as_late_as_the_room(self):
        out = run(load("vault", seconds=0.1, partition=256, wet=0), impulse(1024))
        assert int(np.argmax(out[0])) == 256
        assert out[0].sum() == pytest.approx(1.0)

    def test_it_falls_silent_when_the_room_has_died(self):
        x = np.zeros((2, 24000), np.float32)
        x[:, :100] = 0.5
        out = run(load("vault", seconds=0.1, partition=256, wet=1), x)
        assert np.abs(out[:, 1000:4000]).max() > 1e-3
        assert not out[:, 8000:].any()


class TestReverb:
    def test_equals_a_plain_network_of_delay_lines(self):
        lines, count = 4, 6000
        out = run(load("mist", lines=lines, seconds=1.0, damping=0.2, motion=0, wet=1), impulse(count + 144))
        wait = reverb.lengths(lines, RATE)
        gains = 10 ** (-3 * wait / RATE)
        matrix = linalg.hadamard(lines) / np.sqrt(lines)
        past = np.zeros((lines, count + wait.max() + 1))
        low = np.zeros(lines)
        expected = np.zeros((2, count))
        x = impulse(count)
        for n in range(count):
            read = np.array([past[k, n + wait.max() - wait[k]] if n >= wait[k] else 0.0 for k in range(lines)])
            low = 0.8 * read + 0.2 * low
            expected[0, n], expected[1, n] = low[0::2].sum() / np.sqrt(lines), low[1::2].sum() / np.sqrt(lines)
            fed = matrix @ (low * gains)
            fed[0::2] += x[0, n]
            fed[1::2] += x[1, n]
            past[:, n + wait.max()] = fed
        assert out[:, :count] == pytest.approx(expected, abs=1e-6)

    def test_it_falls_by_sixty_decibels_in_its_time(self):
        out = run(load("mist", lines=16, seconds=1.0, damping=0.0, motion=0, wet=1), impulse(2 * RATE))
        energy = np.cumsum((out[0].astype(float) ** 2)[::-1])[::-1]
        level = 10 * np.log10(energy / energy[0])
        at_10, at_50 = np.argmax(level < -10), np.argmax(level < -50)
        assert (at_50 - at_10) / RATE == pytest.approx(1.0 * 40 / 60, rel=0.08)


@pytest.mark.parametrize("name", ["shoreline", "ballast", "sluice", "tar", "mist"])
def test_the_block_size_does_not_change_the_sound(name):
    x = noise(6000, 0.3)
    small, large = run(load(name), x, 50), run(load(name), x, 1000)
    assert small == pytest.approx(large, abs=1e-6)


@pytest.mark.parametrize("name", ["shoreline", "ballast", "sluice", "tar", "vault", "mist"])
def test_a_restart_brings_back_the_fresh_state(name):
    hosted = load(name)
    x = noise(4096, 0.3)
    first = run(hosted, x)
    hosted.restart(64)
    assert np.array_equal(run(hosted, x), first)


@pytest.mark.parametrize("factor", [2, 4, 8])
def test_the_saturators_low_pass_is_the_windowed_sinc_of_the_text_books(factor):
    length, cutoff = saturator.TAPS * factor + 1, 0.9 / factor
    expected = signal.firwin(length, cutoff, window=("kaiser", 8.0))
    np.testing.assert_allclose(saturator.windowed_sinc(length, cutoff), expected, rtol=0, atol=1e-15)
