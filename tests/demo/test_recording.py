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
        assert one.look_owner.max() <= len(made.files)


def test_its_cycle_and_threads_are_those_it_was_made_of(made):
    seen = see(made)
    assert seen.blocks.period == pytest.approx(256 / 48000, rel=1e-4)
    assert seen.roles == ("engine",) * 6 + ("window", "disk")
    assert len(seen.blocks.load) == pytest.approx(example.SECONDS * 48000 / 256, abs=5)
    # What looks stand for is what the threads had of their cores.
    for thread, runs in list(zip(made.threads, seen.runs, strict=True))[:6]:
        assert thread.look_weight.sum() == pytest.approx((runs.end - runs.begin).sum(), rel=0.01)
