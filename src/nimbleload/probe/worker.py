"""The worker process: loads one plugin, measures it, and tells its parent line by line. It may crash; that is a result.

Forked by the nursery below a supervisor, with a file descriptor for its results. Reads one `Request` as a line of JSON
from standard input, loads the plugin, and waits for another line before it measures. Writes messages as JSON lines.
Standard output and error belong to the plugin.
"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from ..core.session.plugins import PluginUse
from ..native.decoding import decoded
from .loading import load
from .messages import (
    BestMessage,
    CellMessage,
    DetailsMessage,
    DoneMessage,
    FactsMessage,
    LoadedMessage,
    Message,
    NullsMessage,
    ParametersMessage,
    ReadyMessage,
    RefusedMessage,
    RenderRequest,
    Request,
    StageRequest,
    SweepMessage,
    Trying,
    TurnsMessage,
)
from .restraint import keep_off, restrain, settle_on_core
from .standards import STANDARDS

if TYPE_CHECKING:
    from .measure import Loaded, Measurement


def work(request: Request, send, wait) -> None:
    """Loads the plugin, waits for its turn, measures, and sends each result as it is made."""
    from .formats.hosted import PluginError
    from .measure import Loaded, Measurement, kept_by
    from .memory_kept import NOTHING, kept

    if request.place is not None:
        keep_off(request.place)
    held = kept_in(request, {request.use.plugin.standard})
    send(ReadyMessage())
    if request.shows is not None:
        show_window(request, send)
        return
    nothing = kept() if request.details else NOTHING
    begun = time.monotonic()
    try:
        hosted = load(request)
    except PluginError as error:
        send(RefusedMessage(str(error)))
        return
    load_seconds = time.monotonic() - begun
    send(LoadedMessage(load_seconds))
    wait()
    if request.describes:
        send(ParametersMessage(hosted.parameters(), hosted.presets()))
        send(DoneMessage())
        hosted.close()
        return
    real_time = settle_on_core(request.place.core if request.place is not None else None)
    if request.trying is not None:
        hosted.close()
        try_settings(request, request.trying, send)
        send(DoneMessage())
        return
    loaded = Loaded(load_seconds, kept_by(hosted, request.use.voices, nothing) if request.details else nothing)
    measurement = Measurement(hosted, request.use, request.rate, request.effort, request.best, heartbeat(send))
    try:
        tell(measurement, request, (real_time, held), loaded, send)
        send(BestMessage(measurement.best))
    except PluginError as error:
        send(RefusedMessage(str(error)))
        return
    send(DoneMessage())
    hosted.close()


def show_window(request: Request, send) -> None:
    """Shows the plugin's own window until it is closed."""
    from .formats.hosted import PluginError
    from .shown.show import show

    try:
        show(request, send)
    except PluginError as error:
        send(RefusedMessage(str(error)))
        return
    send(DoneMessage())


def kept_in(request: Request | StageRequest | RenderRequest, standards: set[str]) -> tuple[str, ...]:
    """Holds this process before a stranger's code comes into it, in these standards; what protects from it."""
    from ..house.instance import load_all
    from ..native.kept import keep_what_is_compiled
    from .formats import house as _house  # noqa: F401
    from .protection import DISPLAY, hold

    of_others = [STANDARDS[name] for name in standards if name in STANDARDS]
    if not of_others or not request.folder:
        return ()
    # What is compiled in them is looked up in files while they are imported, which is not possible any more afterwards.
    for module in of_others:
        module()
    if "house" in standards:
        load_all()
    keep_what_is_compiled()
    paths = [request.path] if isinstance(request, Request) else list(request.paths.values())
    allowed = request.allowed
    if isinstance(request, Request) and request.shows is not None:
        from .shown import show as _show  # noqa: F401

        paths.append(request.shows.authority)
        allowed = (*allowed, DISPLAY)
    return hold(Path(request.folder), [path for path in paths if path], allowed)


def heartbeat(send, seconds: float = 0.5) -> Callable[[], None]:
    """Says that it is alive, every so many seconds at most."""
    last = time.monotonic()

    def beat() -> None:
        nonlocal last
        if time.monotonic() - last > seconds:
            last = time.monotonic()
            send(ReadyMessage())

    return beat


def tell(
    measurement: Measurement, request: Request, ran: tuple[bool, tuple[str, ...]], loaded: Loaded, send
) -> None:
    """Measures, and sends each result as it is made. PluginError if the plugin says that it does not work.

    `ran` says whether it has its core in real time, and what it is held by.
    """
    if request.first:
        for cell in measurement.first(request.buffers[0]):
            send(CellMessage(cell))
        return
    if request.again is not None:
        for cell in measurement.again(request.again):
            send(CellMessage(cell))
        if request.again.sizes:
            send(TurnsMessage(*measurement.in_turns(request.again.sizes)))
        return
    f = measurement.facts()
    send(FactsMessage(
        f.latency, f.tail, f.version, ran[0], f.truth, f.positions, f.listened, ran[1], f.filled, f.instances,
        f.hears,
    ))  # fmt: skip
    if request.against:

        def fuller(use: PluginUse):
            return load(msgspec.structs.replace(request, use=use))

        send(NullsMessage(measurement.nulls(fuller, request.against)))
    for cell in measurement.cells(request.buffers):
        send(CellMessage(cell))
    if request.details:
        another, alive = (lambda: load(request)), (lambda: send(ReadyMessage()))
        details = measurement.details(request.longest, request.place, loaded, another, alive)
        send(DetailsMessage(*details))


def play(request: StageRequest, send, wait) -> None:
    """Rehearses a session."""
    from .performance import open_files, rehearse

    # Before nothing but the plugins can be read any more.
    files, unread = open_files(request)
    kept_in(request, {use.plugin.standard for strip in request.session.strips for use in strip.uses()})
    send(ReadyMessage())
    send(LoadedMessage(0.0))
    wait()
    rehearse(request, files, unread, send)
    send(DoneMessage())


def render_chain(request: RenderRequest, send, wait) -> None:
    """Renders sound through a chain of plugins."""
    from .chain import render

    kept_in(request, {use.plugin.standard for use in request.uses})
    send(ReadyMessage())
    render(request, send, wait)
    send(DoneMessage())


def try_settings(request: Request, trying: Trying, send) -> None:
    """Tries single settings of the plugin, and sends all that is known after each."""
    from .sweep import sweep

    def another(use: PluginUse):
        return load(msgspec.structs.replace(request, use=use))

    for known in sweep(request.use, request.rate, request.buffers[0], another, trying.seconds, trying.tried):
        send(SweepMessage(known))


def main(number: int) -> None:
    """Does what the one line of standard input asks for, and tells it on a file descriptor. Does not return."""
    restrain()
    request = decoded(sys.stdin.buffer.readline(), Request | StageRequest | RenderRequest)

    def wait() -> None:
        if not sys.stdin.buffer.readline():
            os._exit(1)  # nobody waits for the results any more

    os.set_inheritable(number, False)
    with os.fdopen(number, "wb", buffering=0) as channel:

        def send(message: Message) -> None:
            channel.write(msgspec.json.encode(message) + b"\n")
            time.sleep(0.001)  # a short sleep tells the system that this real-time process is alive and well

        if isinstance(request, StageRequest):
            play(request, send, wait)
        elif isinstance(request, RenderRequest):
            render_chain(request, send, wait)
        else:
            work(request, send, wait)
    # A plugin's threads and exit handlers are not waited for: everything has been told.
    os._exit(0)
