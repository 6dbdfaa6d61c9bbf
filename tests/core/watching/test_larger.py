"""Whether a larger buffer would have helped: against the same host with that buffer."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.dropouts import larger_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.dropouts import dropouts
from nimbleload.core.watching.larger import TIMES, still_late, taken
from tests.helpers.rare import BEGUN, PERIOD
from tests.helpers.recordings import recording, thread


def host(took, period=PERIOD):
    """A host in one thread whose blocks take so long (ns); what is not through is gone on with at once."""
    stretches, free = [], 0
    for k, each in enumerate(took):
        at = max(BEGUN + k * period, free)
        free = at + each
        if stretches and stretches[-1][1] == at:
            stretches[-1] = (stretches[-1][0], free)
        else:
            stretches.append((at, free))
    return see(recording(thread(1, stretches, waited=0.0)))


def is_late(took, times, phase):
    """Whether a block is late in so many times as large a buffer, that begins at some block: one after the other."""
    period, free = times * PERIOD, 0
    for k, first in enumerate(range(phase, len(took) - times + 1, times)):
        free = max(free, k * period) + sum(took[first : first + times])
        if free > (k + 1) * period + 20_000:
            return True
    return False


@pytest.mark.parametrize("seed", range(8))
def test_what_is_told_is_what_the_same_host_does_with_that_buffer(seed):
    """Bursts, alone and near each other, over steady work that fills a fifth to two thirds of a block."""
    rng = np.random.default_rng(seed)
    usual = int(rng.uniform(0.2, 0.65) * PERIOD)
    took = np.full(1200, usual)
    for _ in range(3):
        at = int(rng.integers(100, 1100))
        took[at : at + int(rng.integers(1, 4))] = int(rng.uniform(0.8, 9) * PERIOD)
    took = took.tolist()
    of = host(took)
    for each in dropouts(of, 0, of.recording.ended):
        first = round((each.time - BEGUN) / PERIOD)
        near = [usual] * 1200
        last = round((each.ended - BEGUN) / PERIOD)
        near[first - 2 : last + 2] = took[first - 2 : last + 2]
        for times, told in zip(TIMES, each.still, strict=True):
            true = any(is_late(near, times, phase) for phase in range(times))
            # How a run of several long ones divides is not seen: then it is said to be late rather than in time.
            alone = sum(t > usual for t in near) == 1
            assert told == true if alone else told >= true


def test_the_real_thing_agrees_block_by_block():
    """A burst of 2.4 blocks over half a block's work: too much for twice the buffer, not for four times."""
    usual, burst = PERIOD // 2, int(2.4 * PERIOD)
    took = [usual] * 800
    took[400] = burst
    of = host(took)
    (one,) = dropouts(of, 0, of.recording.ended)
    assert one.still == (True, False, False)
    for times, late in zip(TIMES, one.still, strict=True):
        merged = [sum(took[k : k + times]) for k in range(0, 800, times)]
        larger = host(merged, times * PERIOD)
        assert (larger.blocks.dropouts > 0) == late
    assert larger_words([one]) == ["With 480 samples it would have come all the same, with 960 samples not."]


def test_a_run_is_divided_and_a_pause_is_none():
    usual = PERIOD // 4
    took = [usual] * 300
    took[100] = 3 * PERIOD
    of = host(took)
    blocks = of.blocks
    place = int(np.flatnonzero(blocks.late)[0])
    found = taken(blocks, place - 2, place + 2)
    assert found == pytest.approx([usual, usual, 3 * PERIOD, *[usual] * (len(found) - 3)], abs=30_000)
    # A host that stands still for a second has computed nothing meanwhile.
    stretches = [(BEGUN + k * PERIOD, BEGUN + k * PERIOD + usual) for k in range(600) if not 200 <= k < 400]
    still = see(recording(thread(1, stretches, waited=0.0))).blocks
    assert still_late(still, 195, 205) == (False, False, False)


def test_blocks_that_nobody_began_took_as_long_as_nobody_did():
    """Three blocks pass before the thread wakes again: in twice the buffer one would have been late, not in four times
    as large a one."""
    stretches = [(BEGUN + k * PERIOD, BEGUN + k * PERIOD + PERIOD // 5) for k in range(600) if k not in (300, 301)]
    of = see(recording(thread(1, stretches, waited=0.0)))
    (one,) = dropouts(of, 0, of.recording.ended)
    assert one.still == (True, False, False)


@pytest.mark.parametrize(
    ("still", "words"),
    [
        ([(False,) * 3] * 2, "With 480 samples none of them would have come."),
        ([(False,) * 3], "With 480 samples it would not have come."),
        ([(True, False, False)], "With 480 samples it would have come all the same, with 960 samples not."),
        ([(True, True, False)] * 2, "With 960 samples all would have come all the same, with 1920 samples none."),
        ([(True, True, False), (True, False, False)],
         "With 960 samples 1 of the 2 would have come all the same, with 1920 samples none."),
        ([(True, True, True)] * 2, "Even with 1920 samples all would have come: a larger buffer is no cure for these."),
        ([(True, True, True)], "Even with 1920 samples it would have come: a larger buffer is no cure for it."),
    ],
)  # fmt: skip
def test_it_is_told_in_a_sentence(still, words):
    of = host([PERIOD // 2] * 200 + [2 * PERIOD] + [PERIOD // 2] * 200)
    (one,) = dropouts(of, 0, of.recording.ended)
    found = [one._replace(still=each) for each in still]
    assert larger_words(found) == [words]
    # What came in another buffer before, or was only told by a server, says nothing of this one.
    assert larger_words([one._replace(period=0.02, still=(True,) * 3), one._replace(still=()), *found]) == [words]
    assert larger_words([one._replace(still=())]) == []
