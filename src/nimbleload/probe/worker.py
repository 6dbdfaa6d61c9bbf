"""The worker process: loads one plugin, measures it, and tells its parent line by line. It may crash; that is a result.

Started as `python -m nimbleload.probe.worker FD PARENT` by process PARENT; reads one `Request` as a line of JSON from
standard input, loads the plugin, and waits for another line before it measures. Writes messages as JSON lines to the
file descriptor FD. Standard output and error belong to the plugin.
"""

from __future__ import annotations

import os
import sys
import time

import msgspec

from ..core.session.plugins import PluginUse
from .loading import load
from .messages import (
    CellMessage,
    DetailsMessage,
    DoneMessage,
    FactsMessage,
    Message,
    NullsMessage,
    ReadyMessage,
    RefusedMessage,
    Request,
    StageRequest,
    SweepMessage,
    Trying,
)
from .restraint import keep_off, restrain, settle_on_core


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
    send(FactsMessage(f.latency, f.tail, f.version, real_time, f.truth, f.pace, f.positions, f.listened))
    if request.against:

        def fuller(use: PluginUse):
            return load(msgspec.structs.replace(request, use=use))

        send(NullsMessage(measurement.nulls(fuller, request.against)))
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
    from .performance import rehearse

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
