"""The worker process: loads one plugin, measures it, and tells its parent line by line. It may crash; that is a result.

Started as `python -m nimbleload.probe.worker FD PARENT` by process PARENT; reads one `Request` as JSON from standard
input, writes messages as JSON lines to the file descriptor FD. Standard output and error belong to the plugin.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import resource
import signal
import sys
import time

import msgspec

from ..core.card import Cell, Truth
from ..core.session import PluginUse
from .measure import Effort
from .standards import STANDARDS

PR_SET_PDEATHSIG = 1
MEMORY_LIMIT = 8 << 30
REAL_TIME_SECONDS = 120


class Request(msgspec.Struct, frozen=True):
    """What to measure: one use, at one rate, for these buffer sizes. `path` is the plugin's file, if it has one."""

    use: PluginUse
    rate: int
    buffers: tuple[int, ...]
    path: str = ""
    effort: Effort = Effort()
    core: int | None = None

    @property
    def longest(self) -> int:
        """The longest block that will be asked of the plugin, in samples."""
        return max(*self.buffers, 512)


class ReadyMessage(msgspec.Struct, frozen=True, tag="ready"):
    """The worker itself has started; from now on it is the plugin's time."""


class FactsMessage(msgspec.Struct, frozen=True, tag="facts"):
    latency: int
    tail: float | None
    version: str
    real_time: bool
    truth: Truth


class CellMessage(msgspec.Struct, frozen=True, tag="cell"):
    cell: Cell


class RefusedMessage(msgspec.Struct, frozen=True, tag="refused"):
    reason: str


class DoneMessage(msgspec.Struct, frozen=True, tag="done"):
    pass


Message = ReadyMessage | FactsMessage | CellMessage | RefusedMessage | DoneMessage


def restrain() -> None:
    """No core dumps, a memory limit, and an end when the parent ends."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # A plugin that opens a window's connection while it loads must find nothing to connect to.
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    os.environ.pop("DISPLAY", None)
    os.environ.pop("WAYLAND_DISPLAY", None)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_LIMIT, MEMORY_LIMIT))
    # A real-time process that never sleeps would starve its core: the system ends it if all else fails.
    resource.setrlimit(resource.RLIMIT_RTTIME, (REAL_TIME_SECONDS * 1_000_000, REAL_TIME_SECONDS * 1_000_000))
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)


def settle_on_core(core: int | None) -> bool:
    """Pins this process to a core and asks for real-time scheduling; whether that was allowed."""
    if core is not None:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {core})
    try:
        os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
    except OSError:
        return False
    return True


def load(request: Request):
    """The plugin of a request, loaded and active, by its standard. PluginError says why not."""
    from .formats.hosted import PluginError

    standard = request.use.plugin.standard
    if standard == "house":
        from .formats import house

        return house.load(request.use, request.rate, request.longest)
    if standard not in STANDARDS:
        raise PluginError(f"Plugins of the standard {standard!r} cannot be measured yet.")
    return STANDARDS[standard]().load(request.use, request.path, request.rate, request.longest)


def work(request: Request, send) -> None:
    """Measures and sends each result as it is made."""
    from .formats.hosted import PluginError
    from .measure import Measurement

    send(ReadyMessage())
    try:
        hosted = load(request)
    except PluginError as error:
        send(RefusedMessage(str(error)))
        return
    real_time = settle_on_core(request.core)
    measurement = Measurement(hosted, request.use, request.rate, request.effort)
    facts = measurement.facts()
    send(FactsMessage(facts.latency, facts.tail, facts.version, real_time, facts.truth))
    for cell in measurement.cells(request.buffers):
        send(CellMessage(cell))
    send(DoneMessage())
    hosted.close()


def main() -> None:
    restrain()
    if os.getppid() != int(sys.argv[2]):
        os._exit(1)  # the parent ended before it could be asked to take this process with it
    request = msgspec.json.decode(sys.stdin.buffer.read(), type=Request)
    with os.fdopen(int(sys.argv[1]), "wb", buffering=0) as channel:

        def send(message: Message) -> None:
            channel.write(msgspec.json.encode(message) + b"\n")
            time.sleep(0.001)  # a short sleep tells the system that this real-time process is alive and well

        work(request, send)
    # A plugin's threads and exit handlers are not waited for: everything has been told.
    os._exit(0)


if __name__ == "__main__":
    main()
