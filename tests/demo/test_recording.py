"""The example's recording is the same every time, in order, and shows what the load computation arranged."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.watching.blocks import see
from nimbleload.demo import recording as example
from nimbleload.demo.cards import sample_cards


@pytest.fixture(scope="module")
def made():
    return example.recording(sample_cards())


def test_it_is_the_same_every_time_and_in_order(made):
    again = example.recording(sample_cards())
    for one, other in zip(made.threads, again.threads, strict=True):
        assert np.array_equal(one.switch_time, other.switch_time)
        assert np.array_equal(one.look_owner, other.look_owner)
        assert (np.diff(one.switch_time) >= 0).all() and (np.diff(one.look_time) >= 0).all()
        assert one.look_owner.max(initial=0) <= len(made.files)


def test_its_cycle_and_threads_are_those_it_was_made_of(made):
    seen = see(made)
    assert seen.blocks.period == pytest.approx(256 / 48000, rel=1e-4)
    assert seen.roles == ("engine",) * 6 + ("window", "disk", "other")
    assert len(seen.blocks.load) == pytest.approx(example.SECONDS * 48000 / 256, abs=5)
    # What looks stand for is what the threads had of their cores.
    for thread, runs in list(zip(made.threads, seen.runs, strict=True))[:6]:
        assert thread.look_weight.sum() == pytest.approx((runs.end - runs.begin).sum(), rel=0.01)


def test_what_was_seen_before_is_a_host_that_saves_itself_again_and_again(made):
    past = example.past(sample_cards(), made)
    assert past.begun == -example.MINUTES * 60 * 10**9 + made.begun and past.ended == made.ended
    assert past.unseen == 0 and past.played == pytest.approx(example.MINUTES * 60 + example.SECONDS, abs=2)
    # In every save but the first and the third one block is late, and the thread that saves is at work beside it.
    steps = [round((each.time - past.dropouts[0].time) / 1e9) for each in past.dropouts]
    assert steps == [k * example.SAVED_EVERY for k in (0, 2, 3, 4, 5, 6, 7, 8, 9, 10)]
    assert all([other.name for other in each.beside] == ["autosave"] for each in past.dropouts)
    assert all(mark.is_dropout for mark in past.marks) and len(past.marks) == 6
