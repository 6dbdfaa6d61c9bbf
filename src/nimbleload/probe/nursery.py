"""Where workers come from: a process that has loaded and compiled everything once, and forks a worker in a moment.

Started as `python -m nimbleload.probe.nursery FD PARENT`, FD being a socket to PARENT. For each message on it (the
worker's environment as JSON, with four file descriptors: standard input, standard error, the line of results, and a
pipe for how it ended) it forks a supervisor with its worker, and answers with the supervisor's number. It holds no
plugin itself, and ends with its parent.
"""

from __future__ import annotations

import ctypes
import json
import os
import select
import signal
import socket
import sys
from collections.abc import Callable
from functools import partial
from itertools import product

from ..house.instance import load_all
from ..native.witness import look
from .signal import musical
from .standards import STANDARDS
from .supervisor import PR_SET_PDEATHSIG, supervise

LARGEST = 1 << 20
# At these rates (Hz) what plugins are fed with is there before they are.
USUAL_RATES = (48000, 44100, 96000)


def make_ready() -> None:
    """Imports and compiles what every worker needs; all of it stays shared."""
    from . import company, neighbour, paced, slowed, stage, timed, worker  # noqa: F401
    from .formats import house  # noqa: F401
    from .measure import Measurement  # noqa: F401
    from .pace import Pace
    from .performance import rehearse  # noqa: F401

    for module in (timed, company, neighbour, paced, slowed, stage):
        module.warm_up()
    Pace()
    look()


def begin(environment: dict[str, str], files: list[int]) -> None:
    """In the forked process: becomes a supervisor, and in its own child the worker. Does not return."""
    os.setsid()
    os.environ.clear()
    os.environ.update(environment)
    given, errors, channel, ended = files
    nothing = os.open(os.devnull, os.O_WRONLY)
    for source, target in ((given, 0), (nothing, 1), (errors, 2)):
        os.dup2(source, target)
    low, high = sorted((channel, ended))
    for first, last in ((3, low), (low + 1, high), (high + 1, max(files) + 64)):
        os.closerange(first, last)
    supervise(channel, ended)
    from .worker import main

    main(channel)


def main() -> None:
    """Makes a worker for each message on the line, until the other end is closed."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != int(sys.argv[2]):
        os._exit(1)
    line = socket.socket(fileno=int(sys.argv[1]))
    make_ready()
    # What only some workers need is there as well from the first moment on in which nothing is asked.
    fed = (partial(musical, channels, rate) for rate, channels in product(USUAL_RATES, (2, 1)))
    ahead: list[Callable[[], object]] = [*STANDARDS.values(), load_all, *fed]
    while True:
        while ahead and not select.select([line], [], [], 0)[0]:
            ahead.pop(0)()
        said, files, _, _ = socket.recv_fds(line, LARGEST, 4)
        if not said:
            os._exit(0)
        try:
            while os.waitpid(-1, os.WNOHANG)[0]:
                continue
        except ChildProcessError:
            pass
        made = os.fork()
        if made == 0:
            line.close()
            begin(json.loads(said), list(files))
        for file in files:
            os.close(file)
        line.send(str(made).encode())


if __name__ == "__main__":
    main()
