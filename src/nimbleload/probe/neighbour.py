"""What a plugin costs while the other cores compute, too: cores that share execution units, caches or clocks slow down.

The neighbour on the nearest other core is another instance of the same plugin; further cores do fixed arithmetic. By
themselves: one thread of each other real core, the other thread of the plugin's own, and a core that is slower.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..native.memory import call2, flush_denormals, load_atomic
from .company import in_cycles
from .formats.hosted import Hosted, Note
from .messages import Place
from .pace import Pace
from .stage import settle_thread
from .timed import TimedLoop

FRAMES = 256
# Alone and beside the others in so many turns at least, and at most where this core is not quiet. Of each place in the
# cycle that turn counts that so many are quicker than.
TURNS, MOST_TURNS, QUANTILE = 6, 12, 0.25
# Whoever shares a core with one of both does so for longer than all turns: where it is dearer by more than so much
# there are more of them, so often at most and so long after (seconds).
HARDLY, GOES, REST_SECONDS = 1.05, 5, 0.1
# So long it is looked at what another core can do.
LEARN_SECONDS = 0.05


@njit(nogil=True, cache=True)
def _play_on(call, handle, argument, stop):
    """Calls a plugin over and over until `stop` is set."""
    flush_denormals()
    while load_atomic(stop) == 0:
        call2(call, handle, argument)


class Around(NamedTuple):
    """How many times dearer a block gets while other real cores compute (`beside`) and while the other thread of its
    own does (`paired`), and how many times as long it takes on a slow core (`slower`); each 1: not at all."""

    beside: float = 1.0
    paired: float = 1.0
    slower: float = 1.0


def find_around(
    other: Hosted, loop: TimedLoop, pace: Pace, notes: tuple[Note, ...], place: Place | None, overhead: int
) -> Around:
    """What the cores around a plugin's place do to a block of it. `other` is a second instance, which plays there."""
    if place is None:
        return Around()
    once_more = in_cycles(loop, FRAMES, notes)

    def beside(cores: Sequence[int]) -> float:
        if not cores:
            return 1.0
        return max(times_as_long(once_more, pace, _Neighbours(other, loop, notes, cores), overhead), 1.0)

    slower = 1.0 if place.slow is None else times_as_long(once_more, pace, _OnCore(place.slow), overhead)
    return Around(beside(place.others), beside(place.beside), slower)


class _OnCore:
    """This thread runs on another core while it is used with `with`, again and again; each time it waits a little
    until that core is as fast as it has ever been."""

    def __init__(self, core: int) -> None:
        self._core = core
        self._pace: Pace | None = None

    def __enter__(self) -> None:
        self._own = os.sched_getaffinity(0)
        os.sched_setaffinity(0, {self._core})
        if self._pace is None:
            self._pace = Pace()
            self._pace.learn(LEARN_SECONDS)
        self._pace.wait()

    def __exit__(self, *_: object) -> None:
        os.sched_setaffinity(0, self._own)


def times_as_long(
    once_more: Callable[[], NDArray[np.int64]], pace: Pace, otherwise: AbstractContextManager[None], overhead: int
) -> float:
    """How many times as long blocks (each time a cycle, ns, with the loop's own `overhead`) take `otherwise`.

    At 256 samples. As usual and otherwise in turns, and by the same measure: whoever else takes from the cores
    meanwhile takes from both.
    """
    alone, beside = [], []
    for go in range(GOES):
        if go:
            time.sleep(REST_SECONDS)
        for number in range(MOST_TURNS):
            alone.append(once_more())
            with otherwise:
                beside.append(once_more())
            if number + 1 >= TURNS and pace.is_good():
                break
        usual = [max(float(np.quantile(each, QUANTILE, axis=0).mean()) - overhead, 1.0) for each in (alone, beside)]
        if usual[1] <= HARDLY * usual[0]:
            break
    return usual[1] / usual[0]


class _Neighbours:
    """Threads that compute on other cores while it is used with `with`, again and again: a plugin plays on the first,
    the others do fixed arithmetic."""

    def __init__(self, other: Hosted, loop: TimedLoop, notes: tuple[Note, ...], cores: Sequence[int]) -> None:
        self._other, self._cores, self._stop = other, cores, np.zeros(1, np.int64)
        own = TimedLoop(other, loop.source)
        own.filling = loop.filling
        own.run(FRAMES, 4, own.fill(FRAMES, notes))
        other.inputs[:, :FRAMES] = other.wiring.carried(loop.source[:, :FRAMES])
        self._threads: list[threading.Thread] = []

    def _play(self, core: int) -> None:
        settle_thread(core)
        _play_on(self._other.call, self._other.handle, self._other.argument(FRAMES), self._stop.ctypes.data)

    def _compute(self, core: int) -> None:
        settle_thread(core)
        busy = Pace()
        while not self._stop[0]:
            busy.now()

    def __enter__(self) -> None:
        self._stop[0] = 0
        self._threads = [threading.Thread(target=self._play, args=(self._cores[0],), daemon=True)]
        self._threads += [threading.Thread(target=self._compute, args=(c,), daemon=True) for c in self._cores[1:]]
        for thread in self._threads:
            thread.start()

    def __exit__(self, *_: object) -> None:
        self._stop[0] = 1
        for thread in self._threads:
            thread.join(5)


def warm_up() -> None:
    """Compiles the neighbour's loop, or loads it as compiled before; it is over before it begins."""
    stop = np.ones(1, np.int64)
    _play_on(0, 0, 0, stop.ctypes.data)
