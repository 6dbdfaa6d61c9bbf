"""What other plugins' use of the caches does to a plugin's cost, and how much of the caches it uses itself.

A plugin alone keeps the caches between two blocks; in a session it does not. Here memory of a known size is used
between the blocks.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..core.cards.card import Company
from ..native.clock import now
from ..native.memory import call2, flush_denormals
from .formats.hosted import Hosted, Note
from .pace import Pace
from .signal import CYCLE, again, blocks_in_cycle
from .timed import LINE_WORDS, NOBODY, TimedLoop

LEVELS = (0.0, 0.5, 1.0, 2.0, 4.0, 8.0)
# At the smallest size what is brought back counts most, and is no share that could be read from a longer block.
SIZES = (64, 2048)
RUNS = 3
# Where the core is not quiet, more runs are made for so long.
SECONDS = 0.5
# So many tries tell a footprint, and so many are made at most; in those the cache is as fast as at its best but for so
# much. After the fewest it is seen whether the most would do.
TRIES, FEWEST_TRIES, MOST_TRIES, CALM = 24, 48, 96, 1.1
# So many goes tell a footprint, so long apart (seconds).
GOES, REST_SECONDS = 3, 0.05
FEWEST_BLOCKS = 12
LINE = 64
DEFAULT_CACHE = 1 << 20


def second_level_cache(core: int | None, tree: Path = Path("/sys/devices/system/cpu")) -> int:
    """The size of a core's second-level cache in bytes; a megabyte where the system does not say."""
    try:
        text = (tree / f"cpu{core or 0}" / "cache" / "index2" / "size").read_text().strip()
        return int(text[:-1]) * {"K": 1 << 10, "M": 1 << 20}[text[-1]]
    except (OSError, ValueError, KeyError, IndexError):
        return DEFAULT_CACHE


def find_company(
    loop: TimedLoop,
    pace: Pace,
    notes: tuple[Note, ...],
    rate: int,
    frames: int,
    cache: int,
    overhead: int,
    patient: bool = True,
) -> Company:
    """The mean cost of a block after each level of memory use: the least of three rounds, block by block.

    `cache` is the second-level cache in bytes, `overhead` the loop's own time (ns). Rounds follow each other in whole
    cycles, so that what comes every so many blocks falls on the same ones in each of them. If it is not `patient`, no
    more are made where the core is not quiet.
    """
    memory = np.zeros(int(LEVELS[-1] * cache) // 8, np.int64)
    levels = [memory[: int(level * cache) // 8] for level in LEVELS]
    once_more, seconds = in_cycles(loop, frames, notes), []
    # From the most down: what the level before has left in the caches makes the first blocks dearer, not cheaper, and
    # the least of the rounds is without it.
    for others in reversed(levels):
        seconds.append(least_mean(pace, partial(once_more, others), overhead, SECONDS if patient else 0.0) / 1e9)
    return Company(rate, frames, tuple(int(level * cache) for level in LEVELS), tuple(reversed(seconds)))


def in_cycles(loop: TimedLoop, frames: int, notes: tuple[Note, ...]) -> Callable[..., NDArray[np.int64]]:
    """Brings a plugin to where it is full; what then plays whole cycles of it, each time from the same state on, and
    tells their block times (ns). It may be given memory that others use between the blocks."""
    cycle = blocks_in_cycle(frames, notes)
    blocks = cycle if notes else whole_cycles(frames)
    loop.run(frames, cycle, loop.fill(frames, notes))

    def once_more(others: NDArray[np.int64] = NOBODY) -> NDArray[np.int64]:
        loop.rewind()
        # As many notes are held as before, and have died away as far.
        return loop.run(frames, blocks, again(notes), others=others)

    return once_more


def whole_cycles(frames: int) -> int:
    """How many blocks of so many samples to time: whole cycles, at least twelve blocks."""
    cycle = CYCLE // frames
    return -(-FEWEST_BLOCKS // cycle) * cycle


def least_mean(
    pace: Pace, run: Callable[[], NDArray[np.int64]], overhead: int, seconds: float = SECONDS
) -> float:  # fmt: skip
    """The mean block time of a few good runs, the least of them for each block (ns, without the loop's own time); more
    than a few are made for so many seconds."""
    runs, _ = pace.quiet_runs(run, RUNS, seconds)
    return max(float(np.min(runs, axis=0).mean()) - overhead, 0.0)


def in_circle(lines: int) -> NDArray[np.int64]:
    """Memory of so many cache lines whose first words lead through all of them in no order a processor could guess."""
    order = np.random.default_rng(7).permutation(lines)
    memory = np.zeros(lines * LINE_WORDS, np.int64)
    memory[order * LINE_WORDS] = np.roll(order, -1) * LINE_WORDS
    return memory


@njit(nogil=True, cache=True)
def _walk(memory, steps, clock):
    """Follows the circle for so many steps; nanoseconds."""
    at = 0
    begun = now(clock)
    for _ in range(steps):
        at = memory[at]
    spent = now(clock) - begun
    return spent if at >= 0 else -1


@njit(nogil=True, cache=True)
def _walk_after(memory, steps, clock, call, handle, argument, others):
    """Primes the circle, calls the plugin (unless `call` is 0) and uses `others`; then the time of another walk."""
    flush_denormals()
    _walk(memory, steps, clock)
    _walk(memory, steps, clock)
    if call != 0:
        call2(call, handle, argument)
    for i in range(0, len(others), LINE_WORDS):
        others[i] += 1
    return _walk(memory, steps, clock)


def find_footprint(hosted: Hosted, pace: Pace, frames: int, cache: int, goes: int = GOES) -> int:
    """How many bytes of a primed cache one block pushes out: at most the size of the cache (bytes). The median of a few
    goes some time apart: others use the cache for longer than one takes."""
    found = [_footprint(hosted, pace, frames, cache)]
    while len(found) < goes:
        time.sleep(REST_SECONDS)
        found.append(_footprint(hosted, pace, frames, cache))
    return int(np.median(found))


def _footprint(hosted: Hosted, pace: Pace, frames: int, cache: int) -> int:
    """What one go says of it.

    The walk through the cache takes longer by what was pushed out; how much longer is calibrated with known memory.
    Before and after each walk behind the plugin there is one behind nothing: tries count in which these two were as
    fast as any, so that nobody else used the cache just then.
    """
    lines = cache // LINE * 3 // 4
    memory, clock = in_circle(lines), np.zeros(2, np.int64)
    known = [int(part * cache) for part in (0.0, 0.125, 0.25, 0.5, 0.75, 1.0)]
    nothing, *stretches = [np.zeros(size // 8, np.int64) for size in known]
    argument = hosted.argument(frames)
    trials = [(0, nothing), (hosted.call, nothing), (0, nothing), *((0, stretch) for stretch in stretches)]
    times = np.zeros((0, len(trials)))
    for _ in range(MOST_TRIES):
        pace.wait(0.002)
        tried = [
            _walk_after(memory, lines, clock.ctypes.data, call, hosted.handle, argument, others)
            for call, others in trials
        ]
        times = np.vstack((times, tried))
        beside = times[:, :3:2].max(axis=1)
        calm = beside <= CALM * times[:, :3:2].min()
        if calm.sum() >= TRIES or (len(times) >= FEWEST_TRIES and calm.mean() * MOST_TRIES < TRIES):
            break
    if calm.sum() < TRIES:
        calm = beside <= np.sort(beside)[TRIES // 2]
    # A plugin that works in bursts uses more in some blocks than in others: the mean of the middle half of them counts.
    middle = np.sort(times[calm], axis=0)[(cut := int(calm.sum()) // 4) : calm.sum() - cut].mean(axis=0)
    slower = np.maximum.accumulate([middle[:3:2].mean(), *middle[3:]])
    return int(np.interp(middle[1], slower, known))


def warm_up() -> None:
    """Compiles the walks, or loads them as compiled before."""
    memory, clock, nobody = in_circle(16), np.zeros(2, np.int64), np.zeros(0, np.int64)
    _walk_after(memory, 16, clock.ctypes.data, 0, 0, 0, nobody)
