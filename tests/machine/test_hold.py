"""The ceiling: the search against any threshold, and real threads held against real deadlines."""

from __future__ import annotations

import os

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbleload.core.computer.ceiling import HIGHEST, LOWEST, STEP, Ceiling, Held, Search, by_buffer, merged
from nimbleload.core.told.computer import ceiling_words, trial_words
from nimbleload.machine import hold
from nimbleload.store import ceiling_file

CORE = (max(os.sched_getaffinity(0)),)


@given(st.floats(0.0, 1.2, allow_subnormal=False))
def test_the_search_ends_at_the_step_below_the_threshold(threshold):
    search = Search()
    while (load := search.next) is not None:
        search.tell(Held(load, 100, int(load > threshold), load, True))
    assert len(search.trials) <= search.steps()
    assert search.missed == pytest.approx(search.held + STEP if search.held else LOWEST)
    if threshold < LOWEST:
        assert search.held == 0.0
    elif threshold >= HIGHEST:
        assert search.held == HIGHEST and search.missed > 1
    else:
        assert search.held <= threshold < search.missed


def test_one_late_block_in_one_of_two_trials_makes_no_ceiling():
    search, tried = Search(), []
    while (load := search.next) is not None:
        tried.append(load)
        # Disturbed the first time, whatever the load.
        search.tell(Held(load, 100, int(tried.count(load) == 1 or load > 0.7), 1.1, True))
    assert search.held == 0.7
    assert max(tried.count(load) for load in tried) == 2


def test_a_load_takes_its_share_of_the_deadline():
    # What a unit takes was measured at another moment, perhaps while the core was slower: hence the room below.
    asked = hold.Asked(4096, 48000, CORE, 0.5)
    unit = hold.unit_ns()
    low, high = (hold.hold(asked, load, unit) for load in (0.2, 0.5))
    assert low.blocks == high.blocks == 5
    assert low.worst > 0.12 and high.worst > 0.3
    assert (high.late == 0) == (high.worst <= 1)


def test_more_than_there_is_is_missed_in_every_block():
    trial = hold.hold(hold.Asked(512, 48000, CORE, 0.2), 1.5, hold.unit_ns())
    assert trial.late == trial.blocks
    assert trial.worst > 1.4


def test_a_process_of_its_own_tells_trial_by_trial():
    steps = list(hold.ask([hold.Asked(1024, 48000, CORE, 0.1), hold.Asked(2048, 48000, CORE, 0.1)]))
    assert {step.buffer for step in steps} == {1024, 2048}
    ends = [step.ceiling for step in steps if step.ceiling is not None]
    assert [each.buffer for each in ends] == [1024, 2048]
    assert all(each.threads == 1 and len(each.trials) <= Search().steps() for each in ends)


def test_it_ends_at_once_when_it_is_cancelled():
    seen = []
    for step in hold.ask([hold.Asked(256, 48000, CORE, 30.0)], lambda: True):
        seen.append(step)
    assert seen == []


def test_a_process_that_cannot_begin_is_an_error_with_its_reason():
    with pytest.raises(RuntimeError, match="rror"):
        list(hold.ask([hold.Asked(256, 0, CORE, 0.1)]))


def test_ceilings_are_kept_until_the_computer_is_started_again(tmp_path, monkeypatch):
    path = tmp_path / "cache" / "ceiling.json"
    assert ceiling_file.read(path) == ()
    first = Ceiling(256, 48000, 2, 2.0, 0.8, 0.85, (Held(0.8, 10, 0, 0.9, True),))
    other = Ceiling(512, 48000, 2, 2.0, 0.9, 0.95, (Held(0.9, 10, 0, 0.9, True),))
    ceiling_file.keep([first, other], path)
    again = Ceiling(256, 48000, 2, 2.0, 0.7, 0.75, (Held(0.7, 10, 0, 0.9, True),))
    ceiling_file.keep([again], path)
    assert set(ceiling_file.read(path)) == {other, again}
    monkeypatch.setattr(ceiling_file, "boot", lambda: "another")
    assert ceiling_file.read(path) == ()
    path.write_text("no")
    assert ceiling_file.read(path) == ()


def test_only_those_of_this_rate_and_as_many_threads_are_looked_up():
    trial = (Held(0.5, 1, 0, 0.6, True),)
    found = [Ceiling(256, 48000, 2, 1.0, 0.5, 0.55, trial), Ceiling(256, 44100, 2, 1.0, 0.6, 0.65, trial),
             Ceiling(512, 48000, 4, 1.0, 0.7, 0.75, trial), Ceiling(1024, 48000, 2, 1.0, 0.0, 0.1)]  # fmt: skip
    assert by_buffer(found, 48000, 2) == {256: found[0]}
    assert list(merged(found[:2], found[2:])) == found


def test_words_say_what_was_held_and_what_was_not():
    trial = (Held(0.5, 1, 0, 0.6, True),)
    assert ceiling_words(Ceiling(256, 48000, 2, 2.0, 0.8, 0.85, trial)) == (
        "256 samples, 2 cores: 80 % was held for 2 s, 85 % was not."
    )
    assert "not even 10 %" in ceiling_words(Ceiling(64, 48000, 1, 2.0, 0.0, 0.1, trial))
    assert ceiling_words(Ceiling(64, 48000, 1, 2.0, 1.0, 1.05, trial)) == "64 samples, 1 core: 100 % was held for 2 s."
    assert trial_words(Held(0.5, 100, 3, 1.2, True)) == "50 % missed: 3 of 100 blocks late"
    assert "ended at 60 % of its deadline" in trial_words(trial[0])
