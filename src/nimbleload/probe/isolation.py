"""Runs workers and turns whatever becomes of them into plain words."""

from __future__ import annotations

import contextlib
import os
import selectors
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator

import msgspec

from .messages import DoneMessage, Message, ReadyMessage, RefusedMessage, Request, Result, StageRequest

STDERR_LIMIT = 64 << 10
LINE_LIMIT = 8 << 20
QUIET_SECONDS = 20.0
START_SECONDS = 60.0


class Failure(msgspec.Struct, frozen=True):
    """Why a worker brought no further results, in plain words."""

    reason: str


DECODER = msgspec.json.Decoder(Message)
FLOODED = Failure(f"flooded standard error (over {STDERR_LIMIT >> 10} kB), which spoils any timing, so it was ended")


def _never() -> bool:
    return False


class Worker:
    """A worker process for one request. It starts and loads its plugin at once, but measures only in `results`.

    So one can be made ready while another measures. `close` ends it, whatever it is doing.
    """

    def __init__(self, request: Request | StageRequest) -> None:
        self._channel, write_end = os.pipe()
        command = [sys.executable, "-m", "nimbleload.probe.worker", str(write_end), str(os.getpid())]
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
            pass_fds=(write_end,), start_new_session=True,
        )  # fmt: skip
        os.close(write_end)
        self._say(msgspec.json.encode(request) + b"\n")

    def _say(self, line: bytes) -> None:
        assert self._process.stdin is not None
        with contextlib.suppress(BrokenPipeError):
            self._process.stdin.write(line)
            self._process.stdin.flush()

    def results(
        self,
        cancelled: Callable[[], bool] = _never,
        quiet_seconds: float = QUIET_SECONDS,
        paused: Callable[[], bool] = _never,
    ) -> Iterator[Result | Failure]:
        """Lets it measure, and yields each result as it comes; a failure is the last one. See `run`."""
        self._say(b"go\n")
        return self._listen(cancelled, quiet_seconds, paused)

    def _listen(
        self, cancelled: Callable[[], bool], quiet_seconds: float, paused: Callable[[], bool]
    ) -> Iterator[Result | Failure]:
        """Reads results and standard error side by side until the worker ends, hangs, floods or is cancelled."""
        assert self._process.stderr is not None
        errors = self._process.stderr
        pending, complaints, flood, stopped = b"", b"", 0, False
        # Until the worker says that it has started, a busy computer is to blame, not the plugin.
        last_heard = time.monotonic() + START_SECONDS
        with selectors.DefaultSelector() as selector:
            selector.register(self._channel, selectors.EVENT_READ)
            selector.register(errors, selectors.EVENT_READ)
            while not cancelled():
                if paused() != stopped:
                    stopped = not stopped
                    self._signal(signal.SIGSTOP if stopped else signal.SIGCONT)
                if stopped:
                    last_heard = time.monotonic()
                if time.monotonic() - last_heard > quiet_seconds:
                    yield Failure(f"did not return: no answer for {quiet_seconds:.0f} seconds, so it was ended")
                    return
                for key, _ in selector.select(0.1):
                    part = os.read(key.fd, 1 << 16)
                    if key.fd != self._channel:
                        if not part:
                            selector.unregister(errors)
                        flood += len(part)
                        complaints = (complaints + part)[-4096:]
                        if flood > STDERR_LIMIT:
                            yield FLOODED
                            return
                        continue
                    if not part:
                        yield Failure(ending(self._process, complaints))
                        return
                    last_heard = time.monotonic()
                    *lines, pending = (pending + part).split(b"\n")
                    for message in map(DECODER.decode, lines):
                        if cancelled():
                            return
                        if isinstance(message, DoneMessage):
                            if flood + len(_at_once(errors.fileno())) > STDERR_LIMIT:
                                yield FLOODED
                            return
                        if isinstance(message, RefusedMessage):
                            yield Failure(message.reason)
                            return
                        if not isinstance(message, ReadyMessage):
                            yield message

    def _signal(self, number: signal.Signals) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self._process.pid, number)

    def close(self) -> None:
        """Ends the worker and everything it has started."""
        self._signal(signal.SIGKILL)
        # A killed process ends when it is next scheduled, which a busy core may put off: it is not waited for long.
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(5)
        os.close(self._channel)
        for stream in (self._process.stdin, self._process.stderr):
            if stream is not None:
                with contextlib.suppress(BrokenPipeError):
                    stream.close()


def run(
    request: Request | StageRequest,
    cancelled: Callable[[], bool] = _never,
    quiet_seconds: float = QUIET_SECONDS,
    paused: Callable[[], bool] = _never,
) -> Iterator[Result | Failure]:
    """Measures in a process of its own and yields each result as it comes; a failure is the last one.

    `quiet_seconds` is the longest time without a result before the plugin counts as hanging. When `cancelled`
    answers true, the worker is ended and nothing more comes; while `paused` does, it stands still.
    """
    worker = Worker(request)
    try:
        yield from worker.results(cancelled, quiet_seconds, paused)
    finally:
        worker.close()


def _at_once(file: int) -> bytes:
    """What can be read without waiting."""
    os.set_blocking(file, False)
    try:
        return os.read(file, 1 << 20)
    except BlockingIOError:
        return b""


def ending(process: subprocess.Popen[bytes], complaints: bytes) -> str:
    """Why a worker ended before it was done: its signal or exit code, and the last thing it said."""
    try:
        code = process.wait(2.0)
    except subprocess.TimeoutExpired:
        return "closed its line to us and went on running, so it was ended"
    if code < 0:
        try:
            name = signal.Signals(-code).name
        except ValueError:
            name = f"signal {-code}"
        return f"crashed: {name}"
    said = complaints.decode(errors="replace").strip().splitlines()
    return f"ended by itself with exit code {code}" + (f": {said[-1][:200]}" if said else "")
