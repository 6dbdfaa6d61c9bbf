"""When dropouts come: what is told must hold, and chance must not look like it."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import binom

from nimbleload.core.watching.dropouts import Beside, Dropout
from nimbleload.core.watching.pattern import CHANCE, _tail, at_work_with, only_first, only_last, regular


def test_chance_is_never_taken_for_a_rhythm():
    rng, wrong = np.random.default_rng(1), 0
    for _ in range(400):
        times = rng.uniform(0, 10 ** rng.uniform(1, 4), int(rng.integers(2, 60)))
        wrong += regular(tuple(np.sort(times).tolist())) is not None
    assert wrong <= 2


def test_storms_of_dropouts_are_no_rhythm():
    """Many that come together are one each: three or four storms keep no time."""
    rng = np.random.default_rng(2)
    for _ in range(200):
        whole = 10 ** rng.uniform(2, 4)
        storms = rng.choice(rng.uniform(0, whole, 4), int(rng.integers(8, 60))) + rng.exponential(3, 1)
        times = np.sort(storms + rng.exponential(3, len(storms)))
        assert regular(tuple(times.tolist())) is None


@pytest.mark.parametrize(
    ("number", "missing", "noise", "jitter"),
    [(5, 0.0, 0, 0.01), (6, 0.0, 0, 0.05), (8, 0.3, 0, 0.05), (12, 0.3, 4, 0.05), (20, 0.5, 8, 0.1)],
)
def test_a_rhythm_is_found_with_steps_missing_and_others_between(number, missing, noise, jitter):
    rng, right = np.random.default_rng(number), 0
    for _ in range(100):
        every, step, times = rng.uniform(8, 120), 0, []
        while len(times) < number:
            if rng.random() >= missing:
                times.append(step * every + rng.normal(0, jitter))
            step += 1
        times += rng.uniform(0, step * every, noise).tolist()
        found = regular(tuple(sorted(times)))
        right += found is not None and abs(found.every / every - 1) < 0.01
        if found is not None and not noise and abs(found.every / every - 1) < 0.01:
            assert found.on == found.met == number and found.steps >= number
    assert right >= 92


def test_a_rhythm_is_told_with_the_steps_that_had_none():
    found = regular(tuple(60.0 * k for k in (0, 1, 2, 4, 5, 6, 9)))
    assert found.every == pytest.approx(60.0) and (found.on, found.steps, found.met) == (7, 10, 7)
    # One that follows another in the same step is neither on it nor one more step.
    found = regular((0.0, 60.0, 120.0, 120.3, 180.0, 240.0, 300.0))
    assert found.every == pytest.approx(60.0, rel=0.01) and (found.on, found.steps, found.met) == (6, 6, 6)
    assert regular((0.0, 60.0, 120.0)) is None and regular(()) is None


def test_bounds_are_above_the_exact_probabilities_and_not_far():
    for of in (3, 10, 50):
        for chance in (0.001, 0.02, 0.3):
            for hits in range(of + 1):
                exact, told = binom.sf(hits - 1, of, chance), np.exp(_tail(of, hits, chance))
                assert exact <= told * (1 + 1e-9)
                assert told <= 1e-12 + 12 * np.sqrt(of) * exact or hits <= of * chance
    assert _tail(0, 0, 0.5) == 0.0 and _tail(5, 5, 0.0) == -np.inf


def came(*beside):
    return Dropout(0, 0, 0.005, 1, 0.001, 1.2, 0, None, -1, tuple(Beside(*each) for each in beside), ())


def test_only_what_is_at_work_more_often_than_by_chance_is_told():
    drawing, saving, indexer = ("drawing", "thread", 0.3), ("saving", "thread", 0.004), ("indexer", "program", 0.0)
    found = [came(drawing, saving), came(drawing), came(saving), came(drawing, saving), came(), came(indexer)]
    (told,) = at_work_with(found)
    assert (told.name, told.what, told.times) == ("saving", "thread", 3) and told.usually == pytest.approx(0.004)
    # In two of two it is told as well if it hardly ever is; once says nothing, and never at all is not known.
    assert at_work_with([came(("seldom", "thread", 0.05))] * 2) == []
    assert [each.name for each in at_work_with([came(indexer), came(indexer)])] == ["indexer"]
    assert at_work_with([came(indexer)]) == [] and at_work_with([]) == []
    # What is nearly always at work has nothing to do with it.
    assert at_work_with([came(("browser", "program", 0.97))] * 40) == []
    assert [each.name for each in at_work_with([came(drawing, indexer)] * 12)] == ["indexer", "drawing"]


def test_chance_hardly_ever_has_them_at_one_end():
    rng = np.random.default_rng(5)
    wrong = [0, 0]
    for _ in range(4000):
        played = rng.uniform(0, 600, int(rng.integers(1, 8)))
        wrong[0] += only_first(played.tolist(), 600.0)
        wrong[1] += only_last(played.tolist(), 600.0)
    assert max(wrong) <= 3 * 4000 * CHANCE
    assert only_first([1.0, 3.0, 20.0], 600.0) and not only_last([1.0, 3.0, 20.0], 600.0)
    assert only_last([590.0, 595.0, 599.0], 600.0) and not only_first([590.0], 600.0)
    assert only_first([0.2], 600.0) and not only_first([2.0], 600.0)
    assert not only_first([], 600.0) and not only_last([], 600.0) and not only_first([1.0], 0.0)
