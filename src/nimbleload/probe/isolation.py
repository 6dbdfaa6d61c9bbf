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

from .worker import CellMessage, DoneMessage, FactsMessage, Message, ReadyMessage, RefusedMessage, Request

STDERR_LIMIT = 64 << 10
LINE_LIMIT = 8 << 20
QUIET_SECONDS = 20.0
START_SECONDS = 60.0


class Failure(msgspec.Struct, frozen=True):
    """Why a worker brought no further results, in plain words."""

    reason: str


FLOODED = Failure(f"flooded standard error (over {STDERR_LIMIT >> 10} kB), which spoils any timing, so it was ended")


def run(
    request: Request, cancelled: Callable[[], bool] = lambda: False, quiet_seconds: float = QUIET_SECONDS
) -> Iterator[FactsMessage | CellMessage | Failure]:
    """Measures in a process of its own and yields each result as it comes; a failure is the last one.

    `quiet_seconds` is the longest time without a result before the plugin counts as hanging. When `cancelled`
    answers true, the worker is ended and nothing more comes.
    """
    read_end, write_end = os.pipe()
    command = [sys.executable, "-m", "nimbleload.probe.worker", str(write_end), str(os.getpid())]
    process = subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        pass_fds=(write_end,), start_new_session=True,
    )  # fmt: skip
    os.close(write_end)
    try:
        assert process.stdin is not None
        with contextlib.suppress(BrokenPipeError), process.stdin:
            process.stdin.write(msgspec.json.encode(request))
        yield from _listen(process, read_end, cancelled, quiet_seconds)
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        # A killed process ends when it is next scheduled, which a busy core may put off: it is not waited for long.
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(5)
        os.close(read_end)
        if process.stderr is not None:
            process.stderr.close()


def _listen(
    process: subprocess.Popen[bytes], channel: int, cancelled: Callable[[], bool], quiet_seconds: float
) -> Iterator[FactsMessage | CellMessage | Failure]:
    """Reads results and standard error side by side until the worker ends, hangs, floods or is cancelled."""
    assert process.stderr is not None
    decoder = msgspec.json.Decoder(Message)
    pending, complaints, flood = b"", b"", 0
    # Until the worker says that it has started, a busy computer is to blame, not the plugin.
    last_heard = time.monotonic() + START_SECONDS
    with selectors.DefaultSelector() as selector:
        selector.register(channel, selectors.EVENT_READ)
        selector.register(process.stderr, selectors.EVENT_READ)
        while True:
            if cancelled():
                return
            if time.monotonic() - last_heard > quiet_seconds:
                yield Failure(f"did not return: no answer for {quiet_seconds:.0f} seconds, so it was ended")
                return
            for key, _ in selector.select(0.1):
                part = os.read(key.fd, 1 << 16)
                if key.fd != channel:
                    if not part:
                        selector.unregister(process.stderr)
                    flood += len(part)
                    complaints = (complaints + part)[-4096:]
                    if flood > STDERR_LIMIT:
                        yield FLOODED
                        return
                    continue
                if not part:
                    yield Failure(ending(process, complaints))
                    return
                pending += part
                last_heard = time.monotonic()
                *lines, pending = pending.split(b"\n")
                for line in lines:
                    if cancelled():
                        return
                    message = decoder.decode(line)
                    if isinstance(message, DoneMessage):
                        if flood + len(_at_once(process.stderr.fileno())) > STDERR_LIMIT:
                            yield FLOODED
                        return
                    if isinstance(message, ReadyMessage):
                        continue
                    if isinstance(message, RefusedMessage):
                        yield Failure(message.reason)
                        return
                    yield message


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
