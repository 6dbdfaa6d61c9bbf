"""The ceiling: real threads held against real deadlines, in a process of their own, and what is kept of it."""

from __future__ import annotations

import contextlib
import os
import threading
import time

import numpy as np
import pytest

from nimbleload.core.computer.ceiling import TRIALS, Ceiling, Held
from nimbleload.machine import hold
from nimbleload.store import ceiling_file

CORE = (max(os.sched_getaffinity(0)),)


def test_a_load_takes_its_share_of_the_deadline_and_what_it_waits_is_told():
    # What a unit takes was measured at another moment, perhaps while the core was slower: hence the room below.
    asked = hold.Asked(4096, 48000, CORE, 0.5)
    unit = hold.unit_ns()
    (low, _), (high, _) = (hold.hold(asked, load, unit) for load in (0.2, 0.5))
    assert low.own.shape == high.own.shape == (1, 5)
    assert low.load == pytest.approx(0.2, rel=0.01) and high.load == pytest.approx(0.5, rel=0.01)
    for of in (low, high):
        took = of.own + of.held_up
        assert (took > 0.6 * of.load * of.period).all() and (of.waited >= 0).all()
        # A block ends when it has waited and computed, as no block before it was late.
        if of.ends(of.load).max() <= 1:
            assert of.ends(of.load) == pytest.approx((of.waited + took)[0] / of.period)


def test_more_than_there_is_is_late_in_every_block():
    of, _ = hold.hold(hold.Asked(512, 48000, CORE, 0.2), 1.5, hold.unit_ns())
    ends = of.ends(of.load)
    assert (ends > 1).all() and ends[-1] > 1.4
    # The next block begins when the one before has ended: nothing is waited for.
    assert of.waited[0, 1:].max() < 0.2 * of.period


def test_the_quickest_piece_of_a_block_is_no_longer_than_the_others_and_as_long_as_it_was_meant():
    of, _ = hold.hold(hold.Asked(4096, 48000, CORE, 0.5), 0.3, hold.unit_ns())
    assert (of.quickest > 0).all() and (of.quickest <= of.pace + of.held_up / (of.load * of.period) + 1e-9).all()
    # A unit was timed as it is computed: with two looks at the clock in eight, and whatever the core did meanwhile.
    assert 0.5 < of.quickest.min() < 2.5


def test_what_is_computed_walks_through_more_than_a_core_keeps_and_stays_a_sound():
    from nimbleload.machine import held_work

    material = held_work.material()
    held_work.compute(material, 3 * held_work.STORED // held_work.TAPS // held_work.LINE + 5)
    assert material[held_work.PLACE] == 5 and material.nbytes > 4_000_000
    assert np.isfinite(material).all() and 0.01 < np.abs(material[: held_work.STORE]).max() < 10
    # All of the store has been passed.
    assert (material[held_work.STORE : held_work.PLACE] != 0.5).all()


def test_a_core_that_computes_slowly_is_not_held_up():
    """A clock that is low all the while is the pace of the work, which grows with the load; here it seems so."""
    of, _ = hold.hold(hold.Asked(4096, 48000, CORE, 0.5), 0.03, hold.unit_ns() / 8)
    assert np.median(of.pace) > 5
    assert np.median(of.held_up) < 0.2 * np.median(of.own)


def test_a_thread_that_is_stopped_was_held_up_and_its_work_is_no_longer():
    """A thread of a higher rank takes the core for some milliseconds."""
    asked, unit, found = hold.Asked(4096, 48000, CORE, 1.0), hold.unit_ns(), []
    holding = threading.Thread(target=lambda: found.append(hold.hold(asked, 0.5, unit)))
    holding.start()
    stopped = threading.Thread(target=_take_the_core, args=(0.4, 0.02))
    stopped.start()
    for thread in (stopped, holding):
        thread.join()
    ((of, real_time),) = found
    if not real_time:
        pytest.skip("no real time here: ranks say nothing")
    assert max(of.held_up.max(), of.waited.max()) > 0.01
    late = (of.held_up + of.waited).argmax()
    assert of.own[0, late] < 2 * np.median(of.own)


def _take_the_core(after: float, seconds: float) -> None:
    os.sched_setaffinity(0, set(CORE))
    with contextlib.suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(hold.PRIORITY + 5))
    time.sleep(after)
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        pass


def test_a_process_of_its_own_tells_trial_by_trial():
    steps = list(hold.ask([hold.Asked(1024, 48000, CORE, 0.1), hold.Asked(2048, 48000, CORE, 0.1)]))
    assert {step.buffer for step in steps} == {1024, 2048}
    ends = [step.ceiling for step in steps if step.ceiling is not None]
    assert [each.buffer for each in ends] == [1024, 2048]
    assert all(each.threads == 1 and len(each.trials) == TRIALS for each in ends)


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
    first = Ceiling(256, 48000, 2, 2.0, 0.8, 0.78, 0.85, trials=(Held(0.8, 10, 0, 0.9, True),))
    other = Ceiling(512, 48000, 2, 2.0, 0.9, 0.88, 0.95, trials=(Held(0.9, 10, 0, 0.9, True),))
    ceiling_file.keep([first, other], path)
    again = Ceiling(256, 48000, 2, 2.0, 0.7, 0.6, 0.75, trials=(Held(0.7, 10, 0, 0.9, True),))
    ceiling_file.keep([again], path)
    assert set(ceiling_file.read(path)) == {other, again}
    with monkeypatch.context() as other:
        other.setattr(ceiling_file, "WORK", "of an older program")
        assert ceiling_file.read(path) == ()
    monkeypatch.setattr(ceiling_file, "boot", lambda: "another")
    assert ceiling_file.read(path) == ()
    path.write_text("no")
    assert ceiling_file.read(path) == ()
