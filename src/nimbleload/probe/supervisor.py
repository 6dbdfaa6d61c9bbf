"""Stands above a worker and outlives it: when the worker ends, however it ends, all that it has started ends too.

Forked from the nursery for a worker; started as `python -m nimbleload.probe.supervisor FD PARENT FOLDER FILE…` for a
scan. A plugin's child may leave the group, the session and its
parent; it still becomes a child of this process, which ends it. Asked to end (SIGTERM, also when PARENT ends), it takes
everything with it. It ends as the worker did: with its exit code, or by its signal.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import sys
import time
from typing import NoReturn

from .spare import SPARE, TOOK_TOO_MUCH

PR_SET_PDEATHSIG, PR_SET_CHILD_SUBREAPER = 1, 36
# So long it is tried to end what makes new processes as quickly as they are ended (seconds).
PATIENCE = 3.0
# What memory a worker takes is looked at so often (seconds).
LOOKS = 0.25


def below(process: int) -> list[int]:
    """All processes that descend from one, as far as they can be seen now."""
    found, left = [], [process]
    while left:
        parent = left.pop()
        for thread in threads(parent):
            with contextlib.suppress(OSError), open(f"/proc/{parent}/task/{thread}/children") as file:  # noqa: PTH123
                children = [int(word) for word in file.read().split()]
                found += children
                left += children
    return found


def threads(process: int | str = "self") -> list[int]:
    """The numbers of all threads of a process; none if it has ended."""
    # Asked between any two runs of a plugin: a path object would take longer than many a run.
    try:
        return [int(name) for name in os.listdir(f"/proc/{process}/task")]  # noqa: PTH208
    except OSError:
        return []


def end_all(patience: float = PATIENCE) -> None:
    """Ends every descendant of this process. First all are stopped: what stands still starts nothing new."""
    until = time.monotonic() + patience
    while time.monotonic() < until:
        there = below(os.getpid())
        for number in (signal.SIGSTOP, signal.SIGKILL):
            for process in there:
                with contextlib.suppress(OSError):
                    os.kill(process, number)
        try:
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass
            time.sleep(0.001)
        except ChildProcessError:
            return


def as_it_ended(status: int) -> NoReturn:
    """Ends this process with the exit code or the signal of another one."""
    if os.WIFSIGNALED(status):
        number = os.WTERMSIG(status)
        if number not in (signal.SIGKILL, signal.SIGSTOP):
            signal.signal(number, signal.SIG_DFL)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, [number])
        os.kill(os.getpid(), number)
        os._exit(1)
    os._exit(os.waitstatus_to_exitcode(status))


def _asked_to_end(*_: object) -> None:
    end_all()
    os._exit(1)


def supervise(channel: int, ended: int | None = None) -> None:
    """Returns in the worker; the supervisor itself never returns.

    How the worker ended is written to the file `ended` if there is one; else the supervisor ends in the same way.
    """
    library = ctypes.CDLL(None)
    library.prctl(PR_SET_CHILD_SUBREAPER, 1)
    signal.signal(signal.SIGTERM, _asked_to_end)
    own = os.getpid()
    worker = os.fork()
    if worker == 0:
        signal.signal(signal.SIGTERM, signal.SIG_DFL)
        library.prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
        if os.getppid() != own:
            os._exit(1)
        if ended is not None:
            os.close(ended)
        return
    library.prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
    os.close(channel)
    os.close(0)
    spare = int(os.environ.get(SPARE, 0))
    if spare and ended is not None:
        _watch_memory(spare, ended)
    status = 0
    while True:
        process, status = os.waitpid(-1, 0)
        if process == worker:
            break
    end_all()
    if ended is None:
        as_it_ended(status)
    os.write(ended, str(os.waitstatus_to_exitcode(status)).encode())
    os._exit(0)


def _watch_memory(spare: int, ended: int) -> None:
    """From now on ends the worker, and tells so on the file `ended`, once it takes more than so many bytes of memory
    with all that it has started: the system would take them from whatever else runs here."""
    page = os.sysconf("SC_PAGE_SIZE")

    def look(*_: object) -> None:
        if sum(map(_pages, below(os.getpid()))) * page > spare:
            signal.setitimer(signal.ITIMER_REAL, 0)
            end_all()
            os.write(ended, str(TOOK_TOO_MUCH).encode())
            os._exit(0)

    signal.signal(signal.SIGALRM, look)
    signal.setitimer(signal.ITIMER_REAL, LOOKS, LOOKS)


def _pages(process: int) -> int:
    """How many pages of memory a process has that are of no file; 0 if it has ended."""
    try:
        with open(f"/proc/{process}/statm") as file:  # noqa: PTH123
            _, resident, of_files, *_ = map(int, file.read().split())
    except (OSError, ValueError):
        return 0
    return resident - of_files


def main() -> None:
    """Stands above a scan."""
    parent = int(sys.argv[2])
    if os.getppid() != parent:
        os._exit(1)  # the parent ended before it could be asked to take this process with it
    supervise(int(sys.argv[1]))
    from .scan import main as scan

    scan()


if __name__ == "__main__":
    main()
