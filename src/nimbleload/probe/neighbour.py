"""What a plugin costs while the other cores compute, too: cores that share execution units, caches or clocks slow down.

The neighbour on the nearest other core is another instance of the same plugin; further cores do fixed arithmetic.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence

import numpy as np
from numba import njit

from ..house.native import call2, flush_denormals, load_atomic
from .company import CYCLE, FEWEST_BLOCKS, MOST_ROUNDS, RUNS
from .formats.hosted import Hosted, Note
from .pace import Pace
from .stage import settle_thread
from .timed import TimedLoop

FRAMES = 256


@njit(nogil=True, cache=True)
def _play_on(call, handle, argument, stop):
    """Calls a plugin over and over until `stop` is set."""
    flush_denormals()
    while load_atomic(stop) == 0:
        call2(call, handle, argument)


def find_slowdown(
    hosted: Hosted, other: Hosted, loop: TimedLoop, pace: Pace, notes: tuple[Note, ...], cores: Sequence[int],
    restart: Callable[[], None], overhead: int,
) -> float:  # fmt: skip
    """How many times dearer a block gets while the `cores` compute (1: not at all), at 256 samples."""
    if not cores:
        return 1.0
    blocks = -(-FEWEST_BLOCKS // (CYCLE // FRAMES)) * (CYCLE // FRAMES)
    restart()
    loop.run(FRAMES, CYCLE // FRAMES, notes)

    def least() -> float:
        times = np.full(blocks, np.iinfo(np.int64).max)
        good = tries = 0
        while good < RUNS and tries < MOST_ROUNDS * RUNS:
            pace.wait()
            loop.rewind()
            times = np.minimum(times, loop.run(FRAMES, blocks))
            good += pace.is_good()
            tries += 1
        return max(float(times.mean()) - overhead, 1.0)

    def usual() -> float:
        """The neighbours come and go: their mean effect counts, not the least."""
        runs = []
        for _ in range(2 * RUNS):
            loop.rewind()
            runs.append(float(loop.run(FRAMES, blocks).mean()))
        return max(float(np.median(runs)) - overhead, 1.0)

    alone = least()
    stop = np.zeros(1, np.int64)
    own = TimedLoop(other, loop.source)
    own.run(FRAMES, 4, notes)
    other.inputs[:, :FRAMES] = loop.source[[c % loop.source.shape[0] for c in range(len(other.inputs))], :FRAMES]

    def play(core: int) -> None:
        settle_thread(core)
        _play_on(other.call, other.handle, other.argument(FRAMES), stop.ctypes.data)

    def compute(core: int) -> None:
        settle_thread(core)
        busy = Pace()
        while not stop[0]:
            busy.now()

    threads = [threading.Thread(target=play, args=(cores[0],), daemon=True)]
    threads += [threading.Thread(target=compute, args=(core,), daemon=True) for core in cores[1:]]
    for thread in threads:
        thread.start()
    try:
        beside = usual()
    finally:
        stop[0] = 1
        for thread in threads:
            thread.join(5)
    return max(beside / alone, 1.0)
