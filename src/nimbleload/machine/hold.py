"""Holds a load of known size on real threads against real deadlines: the process that does it, and how it is asked.

It runs in a process of its own, so that whoever asks can end it at any time, and its threads take nobody's lock.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence

import msgspec
import numpy as np

from ..core.computer.ceiling import Blocks, Ceiling, Held, Search
from ..native.decoding import decoded

PRIORITY = 10
# Threads begin together, so long after they were started; between two trials the computer may catch its breath.
START_NS, REST_SECONDS = 50_000_000, 0.2


class Asked(msgspec.Struct, frozen=True):
    """What is to be held: at one buffer size (samples) and rate (Hz), on these cores, each trial for `seconds`."""

    buffer: int
    rate: int
    cores: tuple[int, ...]
    seconds: float


class Progress(msgspec.Struct, frozen=True):
    """A trial that was made while the ceiling at a buffer size is looked for; `ceiling` is there with the last one."""

    buffer: int
    trial: Held
    ceiling: Ceiling | None = None


def unit_ns(tries: int = 400, units: int = 40) -> float:
    """What one unit takes on this core at its best (ns)."""
    from . import held_work  # imported here: the compiler would lengthen every start

    values, clock = held_work.material(), np.zeros(4, np.int64)
    return min(int(held_work.timed(values, units, clock.ctypes.data)) for _ in range(tries)) / units


def hold(asked: Asked, load: float, unit: float) -> tuple[Blocks, bool]:
    """Holds a load (share of the deadline) on all cores for as long as is asked: what was seen of each block, and
    whether the threads were given real time. `unit` is what one unit takes (ns)."""
    from . import held_work

    period = round(asked.buffer / asked.rate * 1e9)
    blocks = max(int(asked.seconds * 1e9 / period), 1)
    piece = unit * held_work.PIECE
    pieces = max(round(load * period / piece), 1)
    seen = np.zeros((len(asked.cores), blocks, held_work.COLUMNS), np.int64)
    given = [False] * len(asked.cores)
    begin = time.monotonic_ns() + START_NS

    def work(place: int, core: int) -> None:
        values, clock = held_work.material(), np.zeros(4, np.int64)
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {core})
        with contextlib.suppress(OSError):
            os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(PRIORITY))
            given[place] = True
        held_work.hold(begin, period, pieces, piece, values, clock.ctypes.data, seen[place])

    threads = [threading.Thread(target=work, args=each) for each in enumerate(asked.cores)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    waited, own, held_up, least = (seen[:, :, column] / 1e9 for column in range(held_work.COLUMNS))
    return Blocks(pieces * piece / period, period / 1e9, waited, own, held_up, least / piece * 1e9), all(given)


def find(asked: Asked) -> Iterator[Progress]:
    """Looks for the ceiling at one buffer size, trial by trial."""
    search, unit = Search(), unit_ns()
    while (load := search.next) is not None:
        trial = search.tell(*hold(asked, load / search.pace, unit))
        ceiling = None
        if search.is_through:
            ceiling = search.found(asked.buffer, asked.rate, len(asked.cores), asked.seconds)
        yield Progress(asked.buffer, trial, ceiling)
        time.sleep(REST_SECONDS)


def ask(every: Sequence[Asked], cancelled: Callable[[], bool] = lambda: False) -> Iterator[Progress]:
    """Has it done in a process of its own, one buffer size after the other. Ends early when it is cancelled.

    RuntimeError with the reason if that process ends before it is through.
    """
    words = msgspec.json.encode(list(every)).decode()
    for line in told_by_process("nimbleload.machine.hold", words, cancelled):
        yield decoded(line, Progress)


def told_by_process(module: str, words: str, cancelled: Callable[[], bool]) -> Iterator[bytes]:
    """What a module that is run in a process of its own tells, line by line. It is ended when it is cancelled, or when
    nobody asks for more lines. RuntimeError with the reason if it fails."""
    command = [sys.executable, "-m", module, words]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
        stop = threading.Event()

        def watch() -> None:
            while not stop.wait(0.1):
                if cancelled():
                    process.kill()
                    return

        watcher = threading.Thread(target=watch, daemon=True)
        watcher.start()
        try:
            assert process.stdout is not None and process.stderr is not None
            yield from process.stdout
            said = process.stderr.read().decode(errors="replace").strip().splitlines()
            if process.wait() and not cancelled():
                raise RuntimeError(said[-1] if said else f"it ended with code {process.returncode}")
        finally:
            stop.set()
            watcher.join()
            process.kill()


def main(words: str) -> None:
    """Holds what is asked for as a list in JSON, and tells each step as a line of JSON."""
    for asked in decoded(words, list[Asked]):
        for progress in find(asked):
            sys.stdout.buffer.write(msgspec.json.encode(progress) + b"\n")
            sys.stdout.buffer.flush()


if __name__ == "__main__":
    main(sys.argv[1])
