"""Stretches and turns, from switches."""

from __future__ import annotations

import pytest

from nimbleload.core.watching.records import GIVES_WAY, SLEEPS, TAKES, only_slept, runs, through, turns
from tests.helpers.recordings import recording, thread


def test_a_turn_goes_on_while_the_thread_only_gives_way():
    found = turns(runs(thread(1, [(100, 200), (250, 300), (400, 450)], gave_way=[0])))
    assert found.begin.tolist() == [100, 400]
    assert found.end.tolist() == [300, 450]
    assert found.busy.tolist() == [150, 50]
    assert found.pushed.tolist() == [1, 0]


def test_what_had_begun_before_or_had_not_ended_is_left_out():
    of = thread(1, [(100, 200), (400, 450)])
    # It begins with a switch away from the core, and ends with one to it.
    of = of._replace(switch_time=of.switch_time[1:3], switch_kind=of.switch_kind[1:3], switch_core=of.switch_core[1:3])
    assert of.switch_kind.tolist() == [SLEEPS, TAKES]
    assert len(runs(of).begin) == len(turns(runs(of)).begin) == 0


def test_a_switch_that_was_lost_makes_no_stretch_out_of_two():
    of = thread(1, [(100, 200), (400, 450)])
    keep = [0, 2, 3]
    of = of._replace(
        switch_time=of.switch_time[keep], switch_kind=of.switch_kind[keep], switch_core=of.switch_core[keep]
    )
    assert runs(of).begin.tolist() == [400]


def test_a_stretch_that_ends_for_anothers_sake_says_so():
    of = thread(1, [(100, 200), (400, 450)], gave_way=[1])
    assert of.switch_kind.tolist() == [TAKES, SLEEPS, TAKES, GIVES_WAY]
    assert runs(of).gave_way.tolist() == [False, True]


def test_the_last_seconds_hold_only_what_fell_into_them():
    of = recording(thread(1, [(0, 10), (2_000_000_000, 2_500_000_000)], looks=[(5, 1), (2_200_000_000, 2)]))
    last = of.last(1.0)
    assert last.seconds == 1.0
    assert last.threads[0].switch_time.tolist() == [2_000_000_000, 2_500_000_000]
    assert last.threads[0].look_owner.tolist() == [2]


def test_a_turn_goes_on_while_memory_is_read_from_the_disk():
    read = [(256_000, 0, 1), (310_000, 0, 1)]
    stretches = [(100_000, 200_000), (250_000, 300_000), (305_000, 320_000), (700_000, 750_000)]
    found = runs(thread(1, stretches, touches=read))
    assert found.read.tolist() == [True, True, False, False]
    assert found.may_be.tolist() == [False, False, False, False]
    of = turns(found)
    assert of.begin.tolist() == [100_000, 700_000] and of.end.tolist() == [320_000, 750_000]
    assert of.busy.tolist() == [165_000, 50_000] and of.read.tolist() == [55_000, 0]


@pytest.mark.parametrize(("told", "pages", "is_read", "may_be"), [
    (401_000, 0, True, False), (430_000, 0, True, True), (460_000, 0, False, False), (401_000, 32, False, False),
])  # fmt: skip
def test_only_what_is_told_right_after_a_sleep_was_slept_for(told, pages, is_read, may_be):
    found = runs(thread(1, [(100_000, 200_000), (400_000, 500_000)], touches=[(told, pages, 1)]))
    assert (found.read.tolist(), found.may_be.tolist()) == ([is_read, False], [may_be, False])


def test_before_the_first_stretch_nobody_is_known_to_have_slept():
    found = runs(thread(1, [(100_000, 200_000), (400_000, 500_000)], touches=[(101_000, 0, 1)]))
    assert not found.read.any()


def test_who_gave_way_slept_for_nothing():
    found = runs(thread(1, [(100_000, 200_000), (400_000, 500_000)], gave_way=[0], touches=[(401_000, 0, 1)]))
    assert not found.read.any()


def test_the_last_seconds_hold_only_the_touches_that_fell_into_them():
    touches = [(5, 0, 1), (2_200_000_000, 32, 2)]
    last = recording(thread(1, [(0, 10), (2_000_000_000, 2_500_000_000)], touches=touches)).last(1.0).threads[0]
    kept = last.fault_time, last.fault_pages, last.fault_owner
    assert [each.tolist() for each in kept] == [[2_200_000_000], [32], [2]]


@pytest.mark.parametrize(("last", "slept"), [(8_000, True), (500_000, False)])
def test_who_gives_way_with_work_left_has_not_only_gone_to_sleep(last, slept):
    found = runs(thread(1, [(100_000, 200_000), (400_000, 400_000 + last)], gave_way=[0]))
    assert only_slept(found).tolist() == [slept]
    assert through(found).tolist() == [200_000 if slept else 400_000 + last]
    assert not len(only_slept(runs(thread(1, [])))) and not len(through(runs(thread(1, []))))
