"""Worker processes as this program sees them: made by the nursery, ended by their supervisors."""

from __future__ import annotations

import atexit
import contextlib
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
from queue import SimpleQueue
from typing import BinaryIO

from .spare import TOOK_TOO_MUCH

STARTING_SECONDS = 120.0
# What a process tells on its line must be told in lines of so many bytes at most.
LINE_LIMIT = 8 << 20


def ended(code: int) -> str:
    """How a process ended, in words: by a signal (negative codes), or by itself."""
    if code == TOOK_TOO_MUCH:
        return "took more memory than this computer can spare, so it was ended"
    if code >= 0:
        return f"ended by itself with exit code {code}"
    try:
        return f"crashed: {signal.Signals(-code).name}"
    except ValueError:
        return f"crashed: signal {-code}"


class NoNurseryError(OSError):
    """That no worker could be started, as a sentence."""


class _Nursery:
    """The one process that workers come from; started when it is first needed, and again if it has ended."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._line: socket.socket | None = None
        self._process: subprocess.Popen[bytes] | None = None

    def ask(self, environment: dict[str, str], files: list[int]) -> int:
        """Has a worker made with these files (see `nursery`); the number of its supervisor."""
        message = json.dumps(environment).encode()
        with self._lock:
            for _ in range(2):
                if self._process is None or self._process.poll() is not None or self._line is None:
                    self._start()
                assert self._line is not None
                try:
                    socket.send_fds(self._line, [message], files)
                    ready, _, _ = select.select([self._line], [], [], STARTING_SECONDS)
                    answer = self._line.recv(64) if ready else b""
                except OSError:
                    answer = b""
                if answer:
                    return int(answer)
                self.end()
        raise NoNurseryError("no process to run plugins in could be started")

    def _start(self) -> None:
        self._line, its = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        command = [sys.executable, "-m", "nimbleload.probe.nursery", str(its.fileno()), str(os.getpid())]
        with its:
            begun: SimpleQueue[subprocess.Popen[bytes] | OSError] = SimpleQueue()
            threading.Thread(target=_keep, args=(command, its.fileno(), begun), name="nursery", daemon=True).start()
            made = begun.get()
            if isinstance(made, OSError):
                raise NoNurseryError(f"no process to run plugins in could be started: {made.strerror}") from made
            self._process = made

    def end(self) -> None:
        """Ends it, and with it every worker."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        if self._line is not None:
            self._line.close()
        self._process = self._line = None


def _keep(command: list[str], file: int, begun: SimpleQueue[subprocess.Popen[bytes] | OSError]) -> None:
    """Starts the nursery, and stays until it has ended. In a thread of its own: the kernel ends the nursery with the
    thread that has started it, and whoever needed it first may be through long before the others."""
    try:
        # Its own arithmetic has no threads: they would not live through a fork, and would count as the plugin's.
        process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, pass_fds=(file,),
            start_new_session=True, env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
        )  # fmt: skip
    except OSError as error:
        begun.put(error)
        return
    begun.put(process)
    process.wait()


_nursery = _Nursery()
atexit.register(_nursery.end)


class Child:
    """A worker and its supervisor. `stdin` and `stderr` are ours to write and to read; `pid` the supervisor's number,
    which is also that of their group. `channel` is where it writes its results, and is closed here."""

    def __init__(self, environment: dict[str, str], channel: int) -> None:
        its_input, ours_in = os.pipe()
        ours_errors, its_errors = os.pipe()
        self._ended, its_end = os.pipe()
        try:
            self.pid = _nursery.ask(environment, [its_input, its_errors, channel, its_end])
        finally:
            for file in (its_input, its_errors, channel, its_end):
                os.close(file)
        self.stdin: BinaryIO = os.fdopen(ours_in, "wb", buffering=0)
        self.stderr: BinaryIO = os.fdopen(ours_errors, "rb", buffering=0)
        self.code: int | None = None

    def wait(self, seconds: float) -> int:
        """How it ended: its exit code, or its signal with a minus. TimeoutExpired if it has not by then."""
        if self.code is None:
            if not select.select([self._ended], [], [], max(seconds, 0.0))[0]:
                raise subprocess.TimeoutExpired("worker", seconds)
            said = os.read(self._ended, 16)
            self.code = int(said) if said else -signal.SIGKILL
        return self.code

    def terminate(self) -> None:
        """Asks it to end, with all that it has started."""
        if self.code is None and not select.select([self._ended], [], [], 0)[0]:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGTERM)

    def signal(self, number: signal.Signals) -> None:
        """Sends a signal to the worker's whole group; but who stands above it is never stopped for long: it would not
        hear that this program has ended, and what is stopped would stay for ever."""
        if self.code is None:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self.pid, number)
                if number == signal.SIGSTOP:
                    os.kill(self.pid, signal.SIGCONT)

    def close(self) -> None:
        for file in (self.stdin, self.stderr):
            with contextlib.suppress(BrokenPipeError):
                file.close()
        os.close(self._ended)
