"""Which part of something long is seen: whatever is done, it lies in the whole, and what should stay stays."""

from __future__ import annotations

import random

import pytest

from nimbleload.app.look.seen import Seen


@pytest.fixture
def seen():
    found = Seen(1.0)
    found.grow_to(100.0)
    return found


def test_the_place_around_which_it_is_zoomed_stays_where_it_is(seen):
    assert seen.is_all and seen.ends == (0.0, 100.0)
    seen.zoom(0.5, 30.0)
    assert seen.ends == (15.0, 65.0) and seen.span == 50.0
    seen.zoom(0.1, 60.0)
    assert seen.ends == pytest.approx((55.5, 60.5))
    seen.zoom(10.0, 60.0)
    assert seen.ends == pytest.approx((15.0, 65.0))
    # What is not seen is taken for the nearest end.
    seen.zoom(0.5, 90.0)
    assert seen.ends == pytest.approx((40.0, 65.0))
    seen.zoom(4.0, 40.0)
    assert seen.is_all
    seen.zoom(1e-9, 100.0)
    assert seen.ends == (99.0, 100.0)


def test_it_moves_as_far_as_there_is_something(seen):
    seen.move(0.5)
    assert seen.is_all
    seen.look_at(10.0, 20.0)
    seen.move(0.5)
    assert seen.ends == (15.0, 25.0)
    seen.move(-9.0)
    assert seen.ends == (0.0, 10.0)
    seen.move(100.0)
    assert seen.ends == (90.0, 100.0)


def test_it_follows_what_is_not_seen_and_lets_be_what_is(seen):
    seen.look_at(10.0, 20.0)
    for place in (10.0, 15.0, 20.0):
        seen.follow(place)
        assert seen.ends == (10.0, 20.0)
    seen.follow(50.0)
    assert seen.ends == (45.0, 55.0)
    seen.follow(99.0)
    assert seen.ends == (90.0, 100.0)
    seen.see_all()
    seen.follow(50.0)
    assert seen.is_all


def test_another_length_keeps_what_is_still_there(seen):
    seen.look_at(40.0, 60.0)
    seen.grow_to(200.0)
    assert seen.ends == (40.0, 60.0)
    seen.grow_to(50.0)
    assert seen.ends == (30.0, 50.0)
    seen.grow_to(15.0)
    assert seen.is_all and seen.ends == (0.0, 15.0)
    seen.grow_to(0.0)
    assert seen.span > 0


@pytest.mark.parametrize("seed", range(20))
def test_whatever_is_done_a_part_of_the_whole_is_seen(seed):
    rng, seen = random.Random(seed), Seen(0.5)
    for _ in range(200):
        rng.choice((
            lambda: seen.grow_to(rng.uniform(0, 50)), lambda: seen.zoom(rng.uniform(0.01, 9), rng.uniform(-9, 60)),
            lambda: seen.move(rng.uniform(-3, 3)), lambda: seen.follow(rng.uniform(0, seen.whole)), seen.see_all,
        ))()  # fmt: skip
        start, end = seen.ends
        assert 0 <= start < end <= seen.whole + 1e-9 and end - start >= min(0.5, seen.whole) - 1e-9
        assert seen.is_all == (end - start >= seen.whole - 1e-9)
