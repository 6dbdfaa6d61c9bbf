"""Holds the same work in every block for minutes, in a process of its own, and looks how long it takes meanwhile."""

from __future__ import annotations

import os
import sys
import threading
import time
from collections.abc import Callable, Iterator

import msgspec
import numpy as np

from ..core.computer.lasting import Lasting, Stretch, is_over, longer, pace
from ..native.cores import cores
from ..native.decoding import decoded
from . import hold
from .core_clocks import CoreClocks
from .hold import Asked

# How long each stretch is (seconds), how often the clock of the cores is read in it, and how long all takes at most.
STRETCH, LOOK_EVERY, MOST = 5.0, 0.5, 900.0
# What is held: on one thread of each real core, so that nothing of it depends on what two of a pair do to each other.
LOAD, BUFFER, RATE = 0.5, 256, 48000


def keep(asked: Asked, load: float) -> Iterator[Stretch]:
    """Holds a load (share of the deadline, at first) for one stretch after the other."""
    unit, clocks, over = hold.unit_ns(), CoreClocks(), threading.Event()

    def look() -> None:
        while not over.wait(LOOK_EVERY):
            clocks.look()

    clocks.look()
    looker = threading.Thread(target=look, daemon=True)
    looker.start()
    begun, before = time.monotonic(), time.monotonic_ns()
    try:
        while True:
            seen, real_time = hold.hold(asked, load, unit)
            late = int((seen.ends(seen.load) > 1).sum())
            yield Stretch(
                time.monotonic() - begun, pace(seen), seen.own.shape[1], late, real_time, *_ran(clocks, asked, before)
            )
            before = time.monotonic_ns()
    finally:
        over.set()
        looker.join()
        clocks.close()


def _ran(clocks: CoreClocks, asked: Asked, since: int) -> tuple[float, int]:
    """At which clock these cores ran since then (Hz; 0: not told), and how often one was slowed down for heat."""
    found = clocks.found
    used, during = np.isin(found.core, asked.cores), found.time >= since
    told = found.clock[during][:, used]
    if not used.any() or not during.any():
        return 0.0, 0
    first = max(int(np.argmax(during)) - 1, 0)
    return float(told.mean()) if told.all() else 0.0, int((found.hot[-1] - found.hot[first])[used].max())


def ask(
    load: float = LOAD, most: float = MOST, cancelled: Callable[[], bool] = lambda: False, stretch: float = STRETCH
) -> Iterator[Lasting]:
    """Has a load held on all real cores until its pace is level, or for so many seconds: what is known of it, again and
    again. RuntimeError with the reason if it ends before."""
    here = cores()
    asked = Asked(BUFFER, RATE, here.fast + here.slow, stretch)
    known = Lasting(load, asked.buffer, asked.rate, len(asked.cores))
    words = msgspec.json.encode((asked, load)).decode()
    for line in hold.told_by_process("nimbleload.machine.lasting", words, cancelled):
        known = longer(known, decoded(line, Stretch))
        yield known
        if is_over(known, most):
            return


def main(words: str) -> None:
    """Holds what is asked for (in JSON), and tells each stretch as a line of JSON, while somebody is there to hear."""
    asked, load = decoded(words, tuple[Asked, float])
    parent = os.getppid()
    for stretch in keep(asked, load):
        if os.getppid() != parent:
            return
        sys.stdout.buffer.write(msgspec.json.encode(stretch) + b"\n")
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    main(sys.argv[1])
