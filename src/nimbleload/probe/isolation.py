"""Runs workers and turns whatever becomes of them into plain words."""

from __future__ import annotations

import contextlib
import os
import selectors
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from ..native.decoding import decoder
from ..store import scratch
from .children import LINE_LIMIT, Child, ended
from .messages import (
    CellMessage,
    DoneMessage,
    LoadedMessage,
    Message,
    ReadyMessage,
    RefusedMessage,
    RenderRequest,
    Request,
    Result,
    StageRequest,
)
from .spare import SPARE, TOOK_TOO_MUCH, spare

STDERR_LIMIT = 64 << 10
QUIET_SECONDS = 20.0
START_SECONDS = 60.0
# A plugin that reads gigabytes, or asks a server, may take this long to load.
LOADING_SECONDS = 120.0
# What no block can take, in seconds, and no figure of a card can be beyond.
LONGEST_BLOCK = 100.0


class Failure(msgspec.Struct, frozen=True):
    """Why a worker brought no further results, in plain words."""

    reason: str


DECODER = decoder(Message)
FLOODED = Failure(f"flooded standard error (over {STDERR_LIMIT >> 10} kB), which spoils any timing, so it was ended")


def _never() -> bool:
    return False


def environment(folder: str) -> dict[str, str]:
    """What a worker starts with: a folder for what it writes. Its own arithmetic has no threads: they would count as
    the plugin's, and a plugin that forks would restart them on the core that it is timed on. Its supervisor is told how
    much memory it may take."""
    return {**os.environ, "OPENBLAS_NUM_THREADS": "1", "TMPDIR": folder, SPARE: str(spare())}


class Worker:
    """A worker process for one request. It starts and loads its plugin at once, but measures only in `results`.

    So one can be made ready while another measures. `close` ends it, whatever it is doing.
    """

    def __init__(self, request: Request | StageRequest | RenderRequest) -> None:
        self._channel, write_end = os.pipe()
        # All that it may write, and gone with it.
        scratch.clear_left_behind()
        self._folder = scratch.Folder()
        # What shows a window is not timed: it may talk as long as it is open.
        self._may_talk = isinstance(request, Request) and request.shows is not None
        request = msgspec.structs.replace(request, folder=self._folder.name)
        self._process = Child(environment(self._folder.name), write_end)
        self._say(msgspec.json.encode(request) + b"\n")

    @property
    def folder(self) -> Path:
        """Where it may write, and what it is given lies."""
        return Path(self._folder.name)

    def _say(self, line: bytes) -> None:
        with contextlib.suppress(BrokenPipeError):
            left = memoryview(line)
            while left:
                left = left[self._process.stdin.write(left) :]

    def ask_to_close(self) -> None:
        """Asks a worker that shows a window to close it, and to tell what was set in it."""
        self._say(b"close\n")

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
        errors = self._process.stderr
        pending, complaints, flood, stopped = b"", b"", 0, False
        # Until the worker says that it has started, a busy computer is to blame, not the plugin.
        last_heard, loading = time.monotonic() + START_SECONDS, True
        with selectors.DefaultSelector() as selector:
            selector.register(self._channel, selectors.EVENT_READ)
            selector.register(errors, selectors.EVENT_READ)
            while not cancelled():
                if paused() != stopped:
                    stopped = not stopped
                    self._process.signal(signal.SIGSTOP if stopped else signal.SIGCONT)
                if stopped:
                    last_heard = time.monotonic()
                waited = time.monotonic() - last_heard
                if loading and waited > LOADING_SECONDS:
                    yield Failure(f"did not finish loading within {LOADING_SECONDS:.0f} seconds, so it was ended")
                    return
                if not loading and waited > quiet_seconds:
                    yield Failure(f"did not return: no answer for {quiet_seconds:.0f} seconds, so it was ended")
                    return
                for key, _ in selector.select(0.1):
                    part = os.read(key.fd, 1 << 16)
                    if key.fd != self._channel:
                        if not part:
                            selector.unregister(errors)
                        flood += len(part)
                        complaints = (complaints + part)[-4096:]
                        if flood > STDERR_LIMIT and not self._may_talk:
                            yield FLOODED
                            return
                        continue
                    if not part:
                        yield Failure(ending(self._process, complaints))
                        return
                    last_heard = time.monotonic()
                    *lines, pending = (pending + part).split(b"\n")
                    for message in map(read, lines if len(pending) <= LINE_LIMIT else [b""]):
                        if cancelled():
                            return
                        if isinstance(message, LoadedMessage):
                            loading = False
                            # What it says while it loads spoils no timing.
                            flood = 0
                            continue
                        if isinstance(message, Failure):
                            yield message
                            return
                        if isinstance(message, DoneMessage):
                            if flood + len(_at_once(errors.fileno())) > STDERR_LIMIT and not self._may_talk:
                                yield FLOODED
                            return
                        if isinstance(message, RefusedMessage):
                            yield Failure(message.reason)
                            return
                        if not isinstance(message, ReadyMessage):
                            yield message

    def close(self) -> None:
        """Ends the worker and everything it has started, wherever that has gone."""
        self._process.signal(signal.SIGCONT)
        self._process.terminate()
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.signal(signal.SIGKILL)
            # A killed process ends when it is next scheduled, which a busy core may put off: it is not waited for long.
            with contextlib.suppress(subprocess.TimeoutExpired):
                self._process.wait(5)
        os.close(self._channel)
        self._process.close()
        self._folder.cleanup()


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


def read(line: bytes) -> Message | Failure:
    """A message, or that this is none: something else has written there, or has made up a figure."""
    try:
        message = DECODER.decode(line)
    except (msgspec.MsgspecError, UnicodeDecodeError):
        return Failure("wrote into the line on which its results are told, so nothing more of it can be believed")
    if isinstance(message, CellMessage):
        cell = message.cell
        times = (cell.mean, cell.median, cell.p95, cell.p99, cell.p999, cell.largest, cell.jitter, cell.aside)
        if not all(0 <= seconds <= LONGEST_BLOCK for seconds in times):
            return Failure("told figures that cannot be, so nothing more of it can be believed")
    return message


def _at_once(file: int) -> bytes:
    """What can be read without waiting."""
    os.set_blocking(file, False)
    try:
        return os.read(file, 1 << 20)
    except BlockingIOError:
        return b""


def ending(process: Child, complaints: bytes) -> str:
    """Why a worker ended before it was done: its signal or exit code, and the last thing it said."""
    try:
        code = process.wait(2.0)
    except subprocess.TimeoutExpired:
        return "closed its line to us and went on running, so it was ended"
    complaints += _at_once(process.stderr.fileno())
    said = complaints.decode(errors="replace").strip().splitlines()
    # One that ends by itself, if only by giving up, says why.
    is_own = 0 <= code < TOOK_TOO_MUCH or code == -signal.SIGABRT
    return ended(code) + (f": {said[-1][:200]}" if said and is_own else "")
