"""What would have kept blocks from being late: against blocks that are computed without it."""

from __future__ import annotations

from typing import NamedTuple

import msgspec
import numpy as np
import pytest

from nimbleload.core.load.helped import TRIED, helped, late_blocks
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip

PERIOD = 5_000_000


def strip(name, uses, kind="track"):
    inserts = tuple(PluginUse(f"u{k}", PluginRef("house", "tar", "Tar")) for k in uses)
    return Strip(name, name, kind=kind, output="main" if kind == "track" else None, inserts=inserts)


STRIPS = [strip(name, (2 * k, 2 * k + 1)) for k, name in enumerate("abcd")]
SESSION = Session("s", 48000, 60.0, (*STRIPS, strip("main", (8,), "main")))
IDS = [strip.id for strip in SESSION.strips]
# Two plugins on each track, and one on the main output.
OF_STRIP = np.array([0, 0, 1, 1, 2, 2, 3, 3, 4])
USES = [f"u{k}" for k in range(9)]


def brute(tasks, cores):
    """When a block is through: tracks by what they take, longest first, on whatever core is free; then the main."""
    free = [0.0] * cores
    for each in sorted(tasks[:4], reverse=True):
        free[free.index(min(free))] += each
    return max(free) + tasks[4]


class Played(NamedTuple):
    """When each block was due and ended, what each strip took in it, and each plugin."""

    due: np.ndarray
    end: np.ndarray
    tasks: np.ndarray
    uses: np.ndarray


def played(rng, cores, blocks=400, bursts=()):
    """Blocks in which every plugin takes what it takes by chance, and in some of them one takes longer."""
    uses = rng.integers(200_000, 500_000, (blocks, 9))
    for use, every, more in bursts:
        uses[every - 1 :: every, use] += more
    tasks = np.stack([uses[:, k == OF_STRIP].sum(axis=1) for k in range(5)], axis=1) + 20_000
    took = np.array([brute(row, cores) for row in tasks]).astype(np.int64) + 30_000
    due = np.arange(blocks) * 2 * PERIOD
    return Played(due, due + 5_000 + took, tasks, uses.astype(np.int32))


def helped_of(of, cores):
    return helped(SESSION, cores, late_blocks(240, PERIOD, *of, USES))


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("cores", [1, 2])
def test_every_step_is_as_if_the_blocks_were_computed_without_it(seed, cores):
    rng = np.random.default_rng(seed)
    of = played(rng, cores, bursts=((int(rng.integers(8)), 11, 4_000_000), (8, 29, 2_500_000)))
    found = helped_of(of, cores)
    late = of.end > of.due + PERIOD
    assert found.late == late.sum() > 10

    def still(numbers):
        less = of.tasks.copy()
        for use in numbers:
            less[:, OF_STRIP[use]] -= of.uses[:, use]
        took = np.array([brute(row, cores) for row in less]) + 35_000
        return int((took > PERIOD)[late].sum())

    assert len(found.without) == TRIED and set(found.frozen) == set("abcd")
    for use, left in found.without.items():
        assert left == pytest.approx(still([USES.index(use)]), abs=1)
    for track, left in found.frozen.items():
        assert left == pytest.approx(still(np.flatnonzero(IDS.index(track) == OF_STRIP)), abs=1)


def test_what_bursts_is_what_helps_and_what_lies_beside_it_does_not():
    of = played(np.random.default_rng(1), 2, bursts=((3, 20, 6_000_000),))
    found = helped_of(of, 2)
    assert found.late == 20 and found.without["u3"] == 0 and found.frozen["b"] == 0
    assert {left for use, left in found.without.items() if use != "u3"} == {20}
    assert found.frozen["a"] == 20
    # A larger buffer has room for it: of one block in twenty, and the next.
    assert found.larger == {480: (0, 200), 960: (0, 100), 1920: (0, 50)}
    tight = played(np.random.default_rng(1), 1, bursts=((3, 20, 6_000_000),))
    twos = (tight.end - tight.due)[:400].reshape(-1, 2).sum(axis=1)
    assert helped_of(tight, 1).larger[480][0] >= (twos > 2 * PERIOD).sum() > 0


def test_where_nothing_was_late_there_is_nothing_to_help():
    of = played(np.random.default_rng(1), 2)
    assert late_blocks(240, PERIOD, *of, USES) is None


def test_a_few_blocks_are_too_few_for_larger_ones():
    of = played(np.random.default_rng(1), 2, blocks=3, bursts=((3, 2, 9_000_000),))
    assert set(helped_of(of, 2).larger) == {480}


@pytest.mark.parametrize(
    "wrong",
    [{"placed": ("u0",) * 8 + ("none",)}, {"placed": ("u0",)}, {"strips": ((1,),) * 20}, {"uses": ((-1,) * 9,) * 20}],
)
def test_blocks_of_another_session_are_refused(wrong):
    """They come from a process in which strangers run."""
    of = played(np.random.default_rng(1), 2, bursts=((3, 20, 6_000_000),))
    late = msgspec.structs.replace(late_blocks(240, PERIOD, *of, USES), **wrong)
    with pytest.raises(ValueError, match="not those of this session"):
        helped(SESSION, 2, late)
