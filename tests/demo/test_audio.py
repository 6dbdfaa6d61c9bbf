"""The example's own audio: what keeps it from being made is told."""

from __future__ import annotations

import os

import numpy as np
import pytest
from scipy.signal import lfilter

from nimbleload.demo import audio, compiled


def test_what_is_made_aside_and_cannot_be_written_is_told_in_the_systems_words(monkeypatch, tmp_path):
    (tmp_path / "cache").write_text("a file where a folder should be")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    with pytest.raises(OSError) as told:
        audio.made_aside(str(audio.path()))
    assert str(told.value) == f"{os.strerror(20)}: {audio.path().parent}"
    audio.made_aside("another.dawproject")  # which is none of its own


def test_a_process_that_is_killed_says_how_it_ended(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    monkeypatch.setattr(audio.sys, "executable", "/bin/false")
    with pytest.raises(OSError, match="ended with code 1"):
        audio.made_aside(str(audio.path()))


def test_sound_is_filtered_and_plucked_as_written_down():
    noise = np.random.default_rng(1).standard_normal(2000)
    np.testing.assert_allclose(compiled.filtered(noise, 0.1, -1.8, 0.95), lfilter([0.1], [1, -1.8, 0.95], noise))
    time = np.arange(48000) / 48000
    partials = sum(np.sin(2 * np.pi * 220 * k * time) / k for k in range(1, 7))
    expected = partials * np.exp(-3 * time) * np.minimum(time / 0.004, 1)
    np.testing.assert_allclose(compiled.plucked(220, 48000, 48000), expected, atol=1e-9)
