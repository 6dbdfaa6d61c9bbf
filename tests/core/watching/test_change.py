"""A host whose buffer is changed while it is watched: what is told is what came since, and nothing else is a change."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, headline
from nimbleload.core.watching.blocks import see
from tests.helpers.held_up import host
from tests.helpers.recordings import blocks, recording, thread

SIZES = {64: 1_333_333, 256: 5_333_333, 288: 6_000_000, "256 at 44.1": 5_804_989, 512: 10_666_667, 1024: 21_333_333}


def two(old, new, counts=(300, 300), pause=300_000, middle=False, jitter=0):
    """A host of one thread that computes for 40 % of its blocks, at two buffer sizes after each other; or which wakes
    twice a block. When the second begins."""
    rng = np.random.default_rng(2)
    first = blocks(SIZES[old], counts[0], [round(0.4 * SIZES[old])])
    begun = first[-1][0] + SIZES[old] + pause
    stretches = first + blocks(SIZES[new], counts[1], [round(0.4 * SIZES[new])], begun=begun)
    if middle:
        stretches = [part for begin, end in stretches
                     for part in ((begin, begin + (end - begin) // 3), (begin + (end - begin) // 2, end))]  # fmt: skip
    late = rng.integers(0, jitter + 1, len(stretches))
    return thread(1, [(begin + by, end + by) for (begin, end), by in zip(stretches, late.tolist(), strict=True)]), begun


@pytest.mark.parametrize("middle", [False, True])
@pytest.mark.parametrize("old", SIZES)
@pytest.mark.parametrize("new", SIZES)
def test_only_what_came_since_counts(old, new, middle):
    of, _ = two(old, new, middle=middle, jitter=30_000, pause=0 if old == new else 300_000)
    seen = see(recording(of))
    assert seen.blocks.period * 1e9 == pytest.approx(SIZES[new], rel=1e-3)
    assert seen.blocks.dropouts == 0 and seen.blocks.worst < 0.5
    if old == new:
        assert seen.was == 0 and len(seen.blocks.load) > 590
        return
    assert seen.was * 1e9 == pytest.approx(SIZES[old], rel=1e-3)
    # A few blocks of the new length may be missed, none of the old one may be among them.
    assert 285 <= len(seen.blocks.load) <= 300
    assert "The host changed its blocks" in findings(seen, [], [], {})[0]


def test_what_is_told_of_it_says_from_which_to_which():
    of, _ = two(1024, 256, (300, 900))
    seen = see(recording(of))
    assert findings(seen, [], [], {})[0] == (
        "The host changed its blocks 5 s ago, from 21.3 ms, as of 1024 samples at 48 kHz to 5.33 ms, as of 256 samples "
        "at 48 kHz: what is shown came since."
    )
    assert "typical 40 %" in headline(seen) and "none was late in 5 s" in headline(seen)


def test_of_several_changes_the_last_counts():
    first, _ = two(256, 1024)
    begun = int(first.switch_time[-1]) + 20_000_000
    last = thread(1, blocks(SIZES[256], 300, [1_000_000], begun=begun))
    of = first._replace(**{
        name: np.concatenate([getattr(first, name), getattr(last, name)])
        for name in ("switch_time", "switch_kind", "switch_core")
    })  # fmt: skip
    seen = see(recording(of))
    assert seen.was * 1e9 == pytest.approx(SIZES[1024], rel=1e-3) and 280 <= len(seen.blocks.load) <= 300


@pytest.mark.parametrize(
    ("away", "free"), [(500_000, 800_000), (600_000, 1_500_000), (1_000_000, 2_000_000), (1_500_000, 2_500_000)]
)
@pytest.mark.parametrize("seed", range(20))
def test_a_host_that_is_late_for_long_has_changed_nothing(away, free, seed):
    made = host(seed, away, free)
    assert see(recording(thread(1, made.leader), thread(2, made.worker))).was == 0


@pytest.mark.parametrize(
    "busy", [[6_500_000, 2_000_000, 2_000_000], [7_000_000, 4_000_000, 3_000_000, 3_000_000], [5_200_000], [7_000_000]]
)
def test_a_host_that_is_overloaded_from_some_time_on_has_changed_nothing(busy):
    """Only one that is late with exactly every second block, and never with another, looks like twice the size."""
    first = blocks(SIZES[256], 400, [2_000_000])
    then = blocks(SIZES[256], 240, busy, begun=first[-1][0] + SIZES[256])
    seen = see(recording(thread(1, first + then)))
    assert seen.was == 0 and seen.blocks.period * 1e9 == pytest.approx(SIZES[256], rel=1e-3)


@pytest.mark.parametrize("seed", range(4))
def test_who_takes_a_larger_buffer_since_blocks_were_late_has_changed_it(seed):
    """So it mostly is: at the smaller size it was late again and again."""
    busy = np.random.default_rng(seed).choice([600_000, 800_000, 1_500_000, 2_000_000], 900, p=[0.5, 0.2, 0.2, 0.1])
    first = blocks(SIZES[64], 900, busy.tolist())
    last = blocks(SIZES[256], 250, [round(0.5 * SIZES[256])], begun=first[-1][0] + 3 * SIZES[64])
    seen = see(recording(thread(1, first + last)))
    assert seen.blocks.period * 1e9 == pytest.approx(SIZES[256], rel=1e-3)
    assert seen.was * 1e9 == pytest.approx(SIZES[64], rel=1e-3)
    assert seen.blocks.dropouts == 0 and len(seen.blocks.load) > 230


def test_another_threads_own_time_is_none_of_the_blocks():
    """One that is in real time as well, as for notes, sets its timer anew."""
    engine = thread(1, blocks(SIZES[256], 900, [2_000_000]))
    timer = thread(2, blocks(4_000_000, 500, [10_000]) + blocks(1_000_000, 2000, [10_000], begun=3_100_000_000))
    seen = see(recording(engine, timer))
    assert seen.was == 0 and len(seen.blocks.load) > 890
