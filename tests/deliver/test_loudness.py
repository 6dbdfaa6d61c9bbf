"""Loudness: the test signals of EBU Tech 3341 that are given by their levels, and what must hold of any sound."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.deliver.loudness import Loudness, integrated, weighting

RATES = (44_100, 48_000, 96_000)


def tone(parts, rate=48_000, hertz=1000.0, channels=2):
    """Stretches of a sine, each of a level (dBFS at its peak) and so many seconds."""
    level = np.concatenate([np.full(round(seconds * rate), 10 ** (db / 20)) for db, seconds in parts])
    wave = level * np.sin(2 * np.pi * hertz * np.arange(len(level)) / rate)
    return np.repeat(wave[:, None], channels, axis=1).astype(np.float32)


# The signals 1 to 5 of EBU Tech 3341, table 1: what they are, and what a meter must show (± 0.1 LU).
SIGNALS = [
    ([(-23, 20)], -23),
    ([(-33, 20)], -33),
    ([(-36, 10), (-23, 60), (-36, 10)], -23),
    ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23),
    ([(-26, 20), (-20, 20.1), (-26, 20)], -23),
]


@pytest.mark.parametrize(("parts", "lufs"), SIGNALS)
@pytest.mark.parametrize("rate", RATES)
def test_signals_of_the_standard_come_out_as_it_says(parts, lufs, rate):
    assert integrated([tone(parts, rate)], rate) == pytest.approx(lufs, abs=0.1)


def test_the_weighting_is_that_of_the_standards_table():
    # ITU-R BS.1770-4, tables 1 and 2, at 48 kHz.
    shelf = [1.53512485958697, -2.69169618940638, 1.19839281085285, 1, -1.69065929318241, 0.73248077421585]
    low = [1.0, -2.0, 1.0, 1, -1.99004745483398, 0.99007225036621]
    assert weighting(48_000) == pytest.approx(np.array([shelf, low]), abs=1e-8)


def test_it_is_the_same_however_the_sound_is_cut(seed=3):
    random = np.random.default_rng(seed)
    sound = random.normal(0, 0.1, (200_000, 2)).astype(np.float32)
    cuts = np.sort(random.choice(200_000, 30, replace=False))
    whole = integrated([sound], 48_000)
    assert integrated(np.split(sound, cuts), 48_000) == pytest.approx(whole, abs=1e-9)
    assert integrated([sound * 0.5], 48_000) == pytest.approx(whole - 6.0206, abs=1e-3)


def test_one_side_alone_is_three_decibels_softer():
    both = tone([(-23, 5)])
    left = both * np.array([1, 0], np.float32)
    assert integrated([left], 48_000) == pytest.approx(integrated([both], 48_000) - 3.01, abs=0.01)


@pytest.mark.parametrize("sound", [np.zeros((0, 2)), np.zeros((100_000, 2)), tone([(0, 0.39)]), tone([(-80, 5)])])
def test_silence_what_is_too_short_and_too_soft_have_none(sound):
    found = Loudness(48_000)
    found.add(sound.astype(np.float32))
    assert found.integrated == -np.inf
