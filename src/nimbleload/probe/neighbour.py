"""What a plugin costs while the other cores compute, too: cores that share execution units, caches or clocks slow down.

The neighbour on the nearest other core is another instance of the same plugin; further cores do fixed arithmetic.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..native.memory import call2, flush_denormals, load_atomic
from .company import RUNS, least_mean, played, whole_cycles
from .formats.hosted import Hosted, Note
from .pace import Pace
from .signal import CYCLE
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
    other: Hosted, loop: TimedLoop, pace: Pace, notes: tuple[Note, ...], cores: Sequence[int], overhead: int
) -> float:
    """How many times dearer a block of the loop's plugin gets while the `cores` compute (1: not at all).

    At 256 samples; `other` is a second instance, which plays on the first of them.
    """
    if not cores:
        return 1.0
    blocks = whole_cycles(FRAMES)
    loop.refresh(FRAMES)
    loop.run(FRAMES, CYCLE // FRAMES, notes)

    def again() -> NDArray[np.int64]:
        if notes:
            return played(loop, FRAMES, notes)
        loop.rewind()
        return loop.run(FRAMES, blocks)

    alone = max(least_mean(pace, again, overhead), 1.0)
    stop = np.zeros(1, np.int64)
    own = TimedLoop(other, loop.source)
    own.refresh(FRAMES)
    own.run(FRAMES, 4, notes)
    other.inputs[:, :FRAMES] = other.wiring.carried(loop.source[:, :FRAMES])

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
        # The neighbours come and go: their usual effect counts, not the least.
        beside = float(np.median([again().mean() for _ in range(2 * RUNS)])) - overhead
    finally:
        stop[0] = 1
        for thread in threads:
            thread.join(5)
    return max(beside / alone, 1.0)


def warm_up() -> None:
    """Compiles the neighbour's loop, or loads it as compiled before; it is over before it begins."""
    stop = np.ones(1, np.int64)
    _play_on(0, 0, 0, stop.ctypes.data)
