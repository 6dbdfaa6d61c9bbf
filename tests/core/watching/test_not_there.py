"""Memory that was not there when an engine touched it, in recordings of hosts of which it is known."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, headline
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import why_late
from nimbleload.core.watching.not_there import mostly, not_there
from tests.helpers.recordings import COUNT, EVERY, READING_PERIOD, SLEEP, STEP, TIMES, reading, recording, thread

PERIOD, BEGUN = READING_PERIOD, 1_000_000_000


def test_reading_makes_a_block_longer_and_no_new_one():
    of = see(reading())
    assert of.blocks.period == pytest.approx(PERIOD / 1e9, rel=1e-6)
    truth = 1_000_000 + TIMES * (SLEEP + STEP)
    assert of.blocks.worst == pytest.approx((truth + 1_000_000) / PERIOD, rel=0.01)  # the next one right behind it
    assert of.blocks.dropouts == COUNT // EVERY - 1
    assert of.blocks.read.max() == TIMES * SLEEP
    found = why_late(of)
    assert (found.read, found.blocks, found.reader) == (of.blocks.dropouts, of.blocks.dropouts, 2)
    assert "typical 20 %" in headline(of)
    said = findings(of, [], [], {})
    assert said[0].endswith("waited for memory that was read from the disk, mostly by Quire.")
    assert any("Its engine touched memory 1200 times that lay on the disk" in each for each in said)


def test_reading_without_sleeping_at_the_start_of_each_block_is_no_wait():
    """As where what lies on the disk lies in memory after all, packed: told only after some computing."""
    stretches = [(BEGUN + k * PERIOD, BEGUN + k * PERIOD + 1_000_000) for k in range(COUNT)]
    touches = [(begin + 20_000, 0, 1) for begin, _ in stretches[::10]]
    of = see(recording(thread(1, stretches, touches=touches), files=("/plugins/Reed.so",)))
    assert of.blocks.dropouts == 0 and of.blocks.worst == pytest.approx(0.2, abs=0.01)
    found = not_there(of)
    assert (found.read, found.slept, found.reader) == (40, 0.0, 1)


def test_what_is_read_for_a_little_while_makes_nothing_late():
    of = see(reading(times=3))
    assert why_late(of) is None
    found = not_there(of)
    assert found.read == 3 * COUNT // EVERY and found.longest == pytest.approx(SLEEP / 1e9)
    assert found.slept == pytest.approx(found.read * SLEEP / 1e9)


def test_who_reads_a_little_and_computes_for_long_is_late_by_computing():
    stretches, touches = [], []
    for k in range(COUNT):
        at = BEGUN + k * PERIOD
        if k % EVERY == EVERY - 1:
            stretches += [(at, at + 1_000_000), (at + 1_000_000 + SLEEP, at + PERIOD + 1_000_000)]
            touches.append((at + 1_002_000 + SLEEP, 0, 2))
        elif k % EVERY or not k:
            stretches.append((at, at + 1_000_000))
        else:
            stretches[-1] = (stretches[-1][0], at + 2_000_000)
    found = why_late(see(recording(thread(1, stretches, touches=touches, waited=0.0), files=("a", "b"))))
    assert found.longer == found.blocks > 10 and found.reader is None


def test_new_memory_is_counted_by_the_second_and_named():
    stretches = [(BEGUN + k * PERIOD, BEGUN + k * PERIOD + 1_000_000) for k in range(COUNT)]
    touches = [(begin + 500_000, 32, 1) for begin, _ in stretches]
    of = see(recording(thread(1, stretches, touches=touches), files=("/plugins/Reed.so",), begun=BEGUN))
    found = not_there(of)
    assert found.new == pytest.approx(32 / PERIOD * 1e9, rel=0.01) and (found.asks, found.read) == (1, 0)
    said = " ".join(findings(of, [], [], {}))
    assert "Its engine touches 25 MB of new memory a second, most of it by Reed" in said
    few = see(of.recording._replace(threads=(thread(1, stretches, touches=touches[:5]),)))
    assert "new memory" not in " ".join(findings(few, [], [], {}))


def test_other_threads_memory_is_not_the_engines():
    stretches = [(BEGUN + k * PERIOD, BEGUN + k * PERIOD + 1_000_000) for k in range(COUNT)]
    other = thread(2, [(BEGUN + 7_000_000, BEGUN + 8_000_000)], real_time=False, touches=[(BEGUN + 7_500_000, 0, 1)])
    assert not_there(see(recording(thread(1, stretches), other))).read == 0


def test_mostly_is_more_than_a_half():
    assert mostly(np.array([1, 1, 2])) == 1
    assert mostly(np.array([1, 2])) is None and mostly(np.array([], np.int64)) is None
    assert mostly(np.array([1, 1, 2]), np.array([1, 1, 5])) == 2
