"""The worker process: loads one plugin, measures it, and tells its parent line by line. It may crash; that is a result.

Started as `python -m nimbleload.probe.worker FD PARENT` by process PARENT; reads one `Request` as a line of JSON from
standard input, loads the plugin, and waits for another line before it measures. Writes messages as JSON lines to the
file descriptor FD. Standard output and error belong to the plugin.
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

from ..core.cards.card import Cell, Company, Effect, Polyphony, Position, Silence, Sweep, Truth, Upkeep
from ..core.load.rehearsal import Rehearsal
from ..core.session.plugins import PluginUse
from ..core.session.session import Session
from .measure import Effort
from .standards import STANDARDS

PR_SET_PDEATHSIG = 1
MEMORY_LIMIT = 8 << 30
REAL_TIME_SECONDS = 120


class Trying(msgspec.Struct, frozen=True):
    """That single settings are to be tried at the first buffer size, for so long; what is known is left out."""

    seconds: float
    tried: tuple[Effect, ...] = ()


class Request(msgspec.Struct, frozen=True, tag="measure"):
    """What to measure: one use, at one rate, for these buffer sizes, and the details that are found at few sizes.

    `path` is the plugin's file, if it has one; `pace` how fast the core has been at its best (ns, see `pace`).
    With `trying`, single settings are tried out instead. `others` are cores that other plugins would play on.
    """

    use: PluginUse
    rate: int
    buffers: tuple[int, ...]
    path: str = ""
    effort: Effort = Effort()
    core: int | None = None
    details: bool = False
    pace: float | None = None
    trying: Trying | None = None
    others: tuple[int, ...] = ()

    @property
    def longest(self) -> int:
        """The longest block that will be asked of the plugin, in samples."""
        return max((*self.buffers, 2048 if self.details else 512))


class StageRequest(msgspec.Struct, frozen=True, tag="rehearse"):
    """What to rehearse: a session at one moment (see `rehearsal.run`), on these cores, for so many seconds.

    `paths` holds the file of every plugin that is to be played, by use id; `refused` why the others are not.
    """

    session: Session
    sounding: tuple[bool, ...]
    notes: tuple[int, ...]
    priority: tuple[float, ...]
    second: float
    buffer: int
    cores: tuple[int, ...]
    seconds: float
    paths: dict[str, str]
    refused: dict[str, str]


class ReadyMessage(msgspec.Struct, frozen=True, tag="ready"):
    """The worker itself has started, or goes on: from now on it is the plugin's time."""


class FactsMessage(msgspec.Struct, frozen=True, tag="facts"):
    latency: int
    tail: float | None
    version: str
    real_time: bool
    truth: Truth
    pace: float
    positions: tuple[Position, ...] = ()


class DetailsMessage(msgspec.Struct, frozen=True, tag="details"):
    company: tuple[Company, ...]
    silence: Silence
    upkeep: Upkeep
    polyphony: tuple[Polyphony, ...] = ()


class SweepMessage(msgspec.Struct, frozen=True, tag="sweep"):
    sweep: Sweep


class LoadingMessage(msgspec.Struct, frozen=True, tag="loading"):
    """So many of all plugins are loaded; `name` is the next."""

    done: int
    total: int
    name: str


class PlayingMessage(msgspec.Struct, frozen=True, tag="playing"):
    """So many of all blocks have been played, `missed` of them too late; `load` is that of the last few (median)."""

    done: int
    total: int
    missed: int = 0
    load: float = 0.0


class PlayedMessage(msgspec.Struct, frozen=True, tag="played"):
    rehearsal: Rehearsal


class CellMessage(msgspec.Struct, frozen=True, tag="cell"):
    cell: Cell


class RefusedMessage(msgspec.Struct, frozen=True, tag="refused"):
    reason: str


class DoneMessage(msgspec.Struct, frozen=True, tag="done"):
    pass


Measured = FactsMessage | CellMessage | DetailsMessage | SweepMessage
Played = LoadingMessage | PlayingMessage | PlayedMessage
Result = Measured | Played
Message = ReadyMessage | Result | RefusedMessage | DoneMessage


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


def keep_off(core: int | None) -> None:
    """Leaves a core to the worker that measures there, where there is another one."""
    others = os.sched_getaffinity(0) - {core}
    if others:
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, others)


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


def work(request: Request, send, wait) -> None:
    """Loads the plugin, waits for its turn, measures, and sends each result as it is made."""
    from .formats.hosted import PluginError
    from .measure import Measurement
    from .pace import Pace
    from .timed import warm_up

    warm_up()
    Pace()
    send(ReadyMessage())
    keep_off(request.core)
    begun = time.monotonic()
    try:
        hosted = load(request)
    except PluginError as error:
        send(RefusedMessage(str(error)))
        return
    load_seconds = time.monotonic() - begun
    wait()
    real_time = settle_on_core(request.core)
    if request.trying is not None:
        hosted.close()
        try_settings(request, request.trying, send)
        send(DoneMessage())
        return
    measurement = Measurement(hosted, request.use, request.rate, request.effort, request.pace)
    f = measurement.facts()
    send(FactsMessage(f.latency, f.tail, f.version, real_time, f.truth, f.pace, f.positions))
    for cell in measurement.cells(request.buffers):
        send(CellMessage(cell))
    if request.details:
        another, alive = (lambda: load(request)), (lambda: send(ReadyMessage()))
        details = measurement.details(request.longest, request.core, request.others, load_seconds, another, alive)
        send(DetailsMessage(*details))
    send(DoneMessage())
    hosted.close()


def play(request: StageRequest, send, wait) -> None:
    """Rehearses a session."""
    from .rehearsal import rehearse

    send(ReadyMessage())
    wait()
    rehearse(request, send)
    send(DoneMessage())


def try_settings(request: Request, trying: Trying, send) -> None:
    """Tries single settings of the plugin, and sends all that is known after each."""
    from .sweep import sweep

    def another(use: PluginUse):
        return load(msgspec.structs.replace(request, use=use))

    for known in sweep(request.use, request.rate, request.buffers[0], another, trying.seconds, trying.tried):
        send(SweepMessage(known))


def main() -> None:
    restrain()
    if os.getppid() != int(sys.argv[2]):
        os._exit(1)  # the parent ended before it could be asked to take this process with it
    request = msgspec.json.decode(sys.stdin.buffer.readline(), type=Request | StageRequest)

    def wait() -> None:
        if not sys.stdin.buffer.readline():
            os._exit(1)  # nobody waits for the results any more

    with os.fdopen(int(sys.argv[1]), "wb", buffering=0) as channel:

        def send(message: Message) -> None:
            channel.write(msgspec.json.encode(message) + b"\n")
            time.sleep(0.001)  # a short sleep tells the system that this real-time process is alive and well

        if isinstance(request, StageRequest):
            play(request, send, wait)
        else:
            work(request, send, wait)
    # A plugin's threads and exit handlers are not waited for: everything has been told.
    os._exit(0)


if __name__ == "__main__":
    main()
