"""Where something is heard in a sound, against going through it sample by sample."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.deliver.audible import SILENT, audible
from nimbleload.deliver.resting import SHORTEST

RATE = 100


def one_by_one(sound):
    found = []
    for at, frame in enumerate(sound):
        if max(abs(frame[0]), abs(frame[1])) > SILENT:
            if found and at - found[-1][1] < SHORTEST * RATE:
                found[-1][1] = at + 1
            else:
                found.append([at, at + 1])
    return [(first / RATE, end / RATE) for first, end in found]


@pytest.mark.parametrize("seed", range(30))
def test_what_is_heard_is_found_wherever_stretches_end(seed):
    rng = np.random.default_rng(seed)
    sound = np.zeros((3000, 2), np.float32)
    for _ in range(rng.integers(0, 8)):
        first, length = rng.integers(0, 3000), rng.integers(1, 300)
        sound[first : first + length, rng.integers(2)] = rng.choice([-1.0, 1.0]) * rng.choice([0.5, 2e-7, 5e-8])
    # Rests of just as long as it takes, and one sample less.
    sound[1000:1200] = 0.0
    sound[[999, 1100, 1200], 0] = 0.25
    ends = np.sort(rng.integers(0, 3001, 12))
    made = audible(iter(np.split(sound, ends)), RATE)
    assert list(made.spans) == one_by_one(sound)
    assert made.peak == np.abs(sound).max()
    assert made.is_mono == np.array_equal(sound[:, 0], sound[:, 1])
    assert audible(iter(np.split(sound[:, [0, 0]], ends)), RATE).is_mono


def test_silence_is_heard_nowhere():
    assert audible(iter([np.full((500, 2), SILENT / 2, np.float32), np.zeros((0, 2), np.float32)]), RATE).spans == ()
    assert audible(iter([]), RATE) == (0.0, (), True)
