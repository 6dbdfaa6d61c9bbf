"""Stretches and turns, from switches."""

from __future__ import annotations

from nimbleload.core.watching.records import GIVES_WAY, SLEEPS, TAKES, runs, turns
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
