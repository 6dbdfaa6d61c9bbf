"""Why blocks of a rehearsal were late, where it is known."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.load.missed import AWAY, COUNTED, PUSHED, READ, SLEPT, Missed, why_missed

PERIOD, COUNT, USES = 1_000_000, 400, ["a/reed", "a/hall", "b/plate"]
LATE = slice(39, None, 40)
TIMES = 10


def blocks(**later):
    """Blocks of 0.7 of a period on two threads, three plugins of 0.2 each, all a little uneven; and what some of them
    have in addition (ns): `wakes` late, takes longer in a plugin (`reed`, `hall`, `plate`) or `beside` all, or has no
    core for a while (`away`), while it `read`, `slept` or was `pushed` so often."""
    rng = np.random.default_rng(5)
    due = np.arange(COUNT) * PERIOD
    begin = due + rng.integers(5_000, 15_000, COUNT)
    use_times = rng.integers(190_000, 210_000, (COUNT, 3)).astype(np.int32)
    took = rng.integers(680_000, 720_000, COUNT)
    held = np.zeros((COUNT, 2, COUNTED), np.int64)
    held[:, :, AWAY] = rng.integers(1_000, 3_000, (COUNT, 2))
    # A plugin that has others compute sleeps in every block, for a while.
    held[:, 1, AWAY], held[:, 1, SLEPT] = 50_000, 2
    begin[LATE] += later.get("wakes", 0)
    for place, name in enumerate(("reed", "hall", "plate")):
        use_times[LATE, place] += later.get(name, 0)
    took[LATE] += sum(later.get(name, 0) for name in ("reed", "hall", "plate", "beside"))
    held[LATE, 1, AWAY] += later.get("away", 0)
    for column, name in ((READ, "read"), (SLEPT, "slept"), (PUSHED, "pushed")):
        held[LATE, 1, column] = later.get(name, 0)
    return PERIOD, due, begin, begin + took, use_times, held, USES


@pytest.mark.parametrize(
    ("later", "wanted"),
    [
        ({}, Missed()),
        ({"wakes": 400_000}, Missed(woken=TIMES)),
        ({"hall": 500_000}, Missed(longer=TIMES, longer_in={"a/hall": TIMES})),
        ({"hall": 500_000, "reed": 200_000}, Missed(longer=TIMES, longer_in={"a/hall": TIMES})),
        ({"reed": 200_000, "hall": 200_000, "plate": 200_000}, Missed(slower=TIMES)),
        ({"beside": 500_000}, Missed(rest=TIMES)),
        ({"hall": 500_000, "away": 500_000, "slept": 3}, Missed(waited=TIMES, slept_in={"a/hall": TIMES})),
        ({"hall": 500_000, "away": 500_000, "slept": 3, "read": 1}, Missed(read=TIMES, slept_in={"a/hall": TIMES})),
        ({"hall": 500_000, "away": 500_000, "pushed": 1}, Missed(give_way=TIMES)),
        ({"hall": 500_000, "away": 500_000}, Missed(taken=TIMES)),
        ({"beside": 500_000, "away": 500_000, "slept": 3}, Missed(waited=TIMES)),
        ({"beside": 500_000, "away": 500_000, "slept": 3, "pushed": 2}, Missed(waited=TIMES)),
        # A short sleep in a block that takes long is not why.
        ({"hall": 500_000, "away": 40_000, "slept": 3}, Missed(longer=TIMES, longer_in={"a/hall": TIMES})),
        # Nor is what comes too late by little, in a block that takes long.
        ({"wakes": 60_000, "plate": 500_000}, Missed(longer=TIMES, longer_in={"b/plate": TIMES})),
    ],
)
def test_each_cause_is_told_apart(later, wanted):
    assert why_missed(*blocks(**later)) == wanted


def test_where_most_are_late_the_work_is_too_much():
    period, due, begin, end, *rest = blocks()
    assert why_missed(period, due, begin, end + 400_000, *rest) == Missed(too_much=COUNT)
    end[::2] += 400_000
    half = why_missed(period, due, begin, end, *rest)
    assert half.too_much == 0 and half.rest == COUNT // 2


def test_what_is_usual_is_no_cause():
    """Each begins 0.2 of a period after it is due; late ones take longer."""
    period, due, begin, end, *rest = blocks(hall=350_000)
    assert why_missed(period, due, begin + 200_000, end + 200_000, *rest).longer == TIMES


def test_each_late_block_has_one_cause():
    period, due, begin, end, use_times, held, uses = blocks(hall=500_000)
    begin[79] += 900_000
    end[79] += 900_000
    held[159, 0] = (600_000, 0, 0, 4)
    found = why_missed(period, due, begin, end, use_times, held, uses)
    assert (found.woken, found.give_way, found.longer) == (1, 1, TIMES - 2)


def test_without_any_plugin_the_rest_is_why():
    period, due, begin, end, _, held, _ = blocks(beside=500_000)
    assert why_missed(period, due, begin, end, np.zeros((COUNT, 0), np.int32), held, []) == Missed(rest=TIMES)
