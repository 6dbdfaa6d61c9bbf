"""Where an engine computed, against stretches that were laid out by hand and by chance."""

from __future__ import annotations

import random

import numpy as np
import pytest

from nimbleload.core.told.watching import placed_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.placed import placed
from nimbleload.core.watching.records import Alike
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 5_000_000
PAIRS = Alike(((0, 4), (1, 5)), ())


def on(of, core):
    """The thread on one core, or each stretch on its own."""
    cores = np.broadcast_to(np.asarray(core), len(of.switch_time) // 2)
    return of._replace(switch_core=np.repeat(cores, 2).astype(np.int64))


def engine(*threads, alike):
    return see(recording(*threads)._replace(alike=alike))


def test_beside_each_other_is_the_time_in_which_both_have_a_core():
    """The second thread begins 1 ms after the first, on the other thread of its core; both compute for 2 ms."""
    first = thread(1, blocks(PERIOD, 400, [2_000_000]))
    second = thread(2, [(begin + 1_000_000, end + 1_000_000) for begin, end in blocks(PERIOD, 400, [2_000_000])])
    of = engine(on(first, 0), on(second, 4), alike=PAIRS)
    assert of.roles == ("engine", "engine")
    assert placed(of).beside == pytest.approx(0.5, abs=0.01) and placed(of).slow == 0
    assert placed_words(of) == ["Its engine computed 50 % of the time beside another of its threads on the same core "
                                "(see Machine)."]  # fmt: skip
    # On a core of its own it is beside nobody.
    apart = engine(on(first, 0), on(second, 1), alike=PAIRS)
    assert placed(apart) == (0.0, 0.0) and placed_words(apart) == []


def test_a_window_on_the_same_core_is_beside_as_well_but_does_not_count_itself():
    first = thread(1, blocks(PERIOD, 400, [2_000_000]))
    window = thread(9, [(1_000_000_000, 1_000_000_000 + 200 * PERIOD)], real_time=False, process=9)
    of = engine(on(first, 1), on(window, 5), alike=PAIRS)
    assert of.roles == ("engine", "window")
    assert placed(of).beside == pytest.approx(0.5, abs=0.01)


def test_on_slow_cores_is_what_its_threads_took_there():
    first = thread(1, blocks(PERIOD, 400, [1_000_000]))
    of = engine(on(first, [0, 3, 3, 3] * 100), alike=Alike((), (2, 3)))
    assert placed(of) == pytest.approx((0.0, 0.75), abs=0.01)
    assert "75 % of the time on slow cores" in placed_words(of)[0]


def test_where_all_cores_are_alike_nothing_is_said():
    of = engine(on(thread(1, blocks(PERIOD, 400, [1_000_000])), 0), alike=Alike())
    assert placed(of) is None and placed_words(of) == []
    assert placed(see(recording()._replace(alike=PAIRS))) is None


@pytest.mark.parametrize("seed", range(8))
def test_any_stretches_against_counting_step_by_step(seed):
    """Threads here and there, several of them on one core after the other; counted in steps of a tenth of a block."""
    rng, step = random.Random(seed), PERIOD // 10
    made = []
    for number in range(1, 5):
        stretches, cores = [], []
        for begin, _ in blocks(PERIOD, 60, [PERIOD]):
            at = rng.randint(0, 8)
            stretches.append((begin + at * step, begin + rng.randint(at + 1, 10) * step))
            cores.append(rng.choice((0, 1, 4, 5, 2)))
        made.append(on(thread(number, stretches, real_time=number < 4, process=number), cores))
    of = engine(*made, alike=Alike(((0, 4), (1, 5)), (5,)))._replace(roles=("engine", "ahead", "engine", "window"))
    taken = [[(a // step, b // step, c) for a, b, c in zip(r.begin, r.end, r.core, strict=True)] for r in of.runs]
    busy = {(t, c) for each in taken for a, b, c in each for t in range(a, b)}
    own = [(t, c) for k in (0, 1, 2) for a, b, c in taken[k] for t in range(a, b)]
    other = {0: 4, 4: 0, 1: 5, 5: 1}
    expected = sum((t, other.get(c)) in busy for t, c in own) / len(own), sum(c == 5 for _, c in own) / len(own)
    assert placed(of) == pytest.approx(expected)
