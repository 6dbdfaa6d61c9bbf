"""How long a computer keeps its pace: computers of which it is known when and by how much they become slower."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.computer.ceiling import Blocks, Ceiling
from nimbleload.core.computer.lasting import Lasting, Stretch, held, is_over, longer, pace
from nimbleload.core.told.lasting import goes_on_words, in_the_end_words, lasting_words

GHZ = 1e9


def lasting(*paces, seconds=5.0, clocks=None, hot=(), real_time=True):
    each = [
        Stretch(seconds * (k + 1), p, 900, 0, real_time, clocks[k] if clocks else 0.0, hot[k] if hot else 0)
        for k, p in enumerate(paces)
    ]
    return Lasting(0.5, 256, 48000, 6, tuple(each))


def test_who_keeps_the_pace_is_as_quick_in_the_end():
    of = lasting(*[1.0, 1.01] * 30)
    assert of.slower == 1.0 and of.since == 0.0 and of.is_level and of.is_known
    assert lasting_words(of) == "50 % on 6 cores for 5 min: as quick at the end as at first."
    # What is quicker in the end was disturbed at first.
    assert lasting(*[1.2] * 5, *[1.0] * 55).slower == 1.0
    assert lasting(1.0, *[1.0299] * 60).slower == 1.0 and lasting(1.0, *[1.0301] * 60).slower > 1.03


def test_a_power_limit_that_does_not_last_is_told_with_when_and_how_much():
    of = lasting(*[1.02] * 6, *[1.34] * 54, clocks=[4.2 * GHZ] * 6 + [3.2 * GHZ] * 54)
    assert of.slower == pytest.approx(1.34 / 1.02) and of.since == 30.0 and of.is_level
    assert lasting_words(of) == (
        "50 % on 6 cores for 5 min: after 0:30 the same work, and any plugin, takes 1.31 times as long (3.2 GHz, "
        "where it was 4.2 GHz). Balance marks what this computer holds then."
    )
    assert goes_on_words(lasting(1.0, 1.1, seconds=20.0)) == (
        "0:40: the work takes 1.10 times as long as at first. At least 3 min more."
    )
    assert goes_on_words(of) == "5:00: the work takes 1.31 times as long as at first, at 3.2 GHz."


def test_heat_that_comes_and_goes_counts_by_the_middle():
    steps = lasting(*[1.0] * 6, *[1.2] * 4, *[1.3] * 4, *[1.5] * 46)
    assert steps.since == 50.0
    of = lasting(*[1.0] * 20, *[1.0, 1.5, 1.5, 1.5] * 10, hot=[0] * 20 + [0, 3, 1, 0] * 10)
    assert of.slower == 1.5 and of.hot == 40
    assert "Cores were slowed down for heat 40 times meanwhile." in lasting_words(of)


@pytest.mark.parametrize("place", [0, 2, 30, 59])
def test_one_stretch_that_others_disturbed_says_nothing(place):
    paces = [1.0] * 60
    paces[place] = 3.0
    of = lasting(*paces)
    assert of.slower == 1.0 and of.is_level


def test_it_is_level_when_nothing_changes_any_more():
    steps = np.interp(np.arange(100), [0, 30, 60, 100], [1.0, 1.0, 1.5, 1.5])
    of = [lasting(*steps[:k]).is_level for k in range(101)]
    # At first it is level for long enough, but that is not asked before four minutes.
    assert not any(of[:76]) and all(of[92:])
    assert not lasting(*[1.0] * 31, seconds=100.0).is_level and lasting(*[1.0] * 32, seconds=100.0).is_level


def test_it_goes_on_until_it_is_level_or_for_so_long():
    rising = lasting(*np.linspace(1, 3, 60))
    assert not is_over(rising, 301) and is_over(rising, 300) and is_over(lasting(*[1.0] * 60), 900)
    assert "ended before it was clear" in lasting_words(rising)
    assert longer(lasting(1.0), Stretch(10.0, 2.0, 1, 0, True)).stretches[1].pace == 2.0


def test_what_is_short_says_nothing():
    of = lasting(*[1.0] * 5, *[2.0] * 6)
    assert not of.is_known and lasting_words(of) == "Not long enough to tell for how long this computer keeps its pace."
    of = lasting()
    assert (of.slower, of.since, of.seconds, of.clocks, of.hot) == (1.0, 0.0, 0.0, (0.0, 0.0), 0)


def test_clocks_that_are_not_all_told_or_explain_nothing_are_left_out():
    paces = [1.0] * 3 + [1.5] * 57
    gone = [4 * GHZ] * 3 + [3 * GHZ] * 50 + [0.0] * 2 + [3 * GHZ] * 5
    for clocks in (gone, [4 * GHZ] * 60, None):
        assert "GHz" not in lasting_words(lasting(*paces, clocks=clocks))
    assert lasting(*paces, clocks=[4 * GHZ, 4.5 * GHZ] * 30).clocks == (4.5 * GHZ, 4.25 * GHZ)


def test_without_real_time_others_are_in_the_figures():
    assert lasting_words(lasting(*[1.0] * 60, real_time=False)).endswith("what other programs do is in these figures.")


def test_a_load_that_will_not_stay_under_its_limit_is_told_of():
    assert in_the_end_words(0.62, 0.8, 1.31) == (
        " When this computer has worked for a while the same takes 1.31 times as long: 81 % (see Machine)."
    )
    # Not where it is above it now, where it stays below, and where nothing becomes slower.
    for load, slower in ((0.81, 1.31), (0.61, 1.31), (0.8, 1.0)):
        assert in_the_end_words(load, 0.8, slower) == ""


def test_what_is_held_is_less_by_as_much():
    ceiling = Ceiling(256, 48000, 6, 2.0, 0.8, 0.7, 0.9)
    assert held(ceiling, lasting(*[1.0] * 3, *[1.25] * 57)) == pytest.approx(0.64)
    assert held(ceiling, lasting(*[1.0] * 60)) == held(ceiling, None) == 0.8


def test_the_pace_is_that_of_the_quickest_blocks_of_each_thread():
    quickest = np.full((3, 100), 5.0)
    quickest[:, 10:30] = [[1.0], [1.2], [4.0]]
    blank = np.zeros_like(quickest)
    assert pace(Blocks(0.5, 0.01, blank, blank, blank, quickest)) == pytest.approx(1.2)


def test_what_is_known_comes_back_from_a_file():
    of = lasting(1.0, 2.0, clocks=[1.0, 2.0], hot=(3, 4))
    assert msgspec.json.decode(msgspec.json.encode(of), type=Lasting) == of
