"""Listens to a sound server while its host is watched: what it says of its load, its xruns, its clients."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from collections import deque
from pathlib import Path

import msgspec

from ..core.watching.records import Event, Heard
from ..core.watching.server import Server
from .ending import end
from .server_messages import Buffer, Gone, Message, State, Xrun, decode
from .sound_servers import Running

# Where PipeWire keeps its own edition of JACK's library, outside the linker's path.
PIPEWIRE_LIBRARIES = ("/usr/lib/*/pipewire-*/jack", "/usr/lib*/pipewire-*/jack")
# Xruns and loads are kept: a day of states, and as many xruns as anybody wants to count.
MOST_KEPT = 200_000
FIRST_WORD = 10.0
# Blocks, and xruns, of so long (ns) after another buffer size was set are the change's own.
SETTLED = 500_000_000


class ListeningError(Exception):
    """Why a server cannot be listened to, in words."""


class Listening:
    """Listens from the start on, in a process of its own. ListeningError if the server does not let it.

    `events` are what happened to the server: clients that came and went, another buffer size, its end.
    """

    def __init__(self, running: Running, keep: float = 3600.0) -> None:
        self.running, self._keep = running, round(keep * 1e9)
        self.events: list[Event] = []
        self._states: deque[tuple[int, float]] = deque(maxlen=MOST_KEPT)
        self._xruns: deque[tuple[int, float]] = deque(maxlen=MOST_KEPT)
        self._server: Server | None = None
        self._why = ""
        # Since when (ns) blocks have the length that they have now: what was before is another host's.
        self.since = 0
        self._heard, self._lock = threading.Event(), threading.Lock()
        words = [sys.executable, "-m", "nimbleload.machine.server_listener", *map(str, running)]
        self._process = subprocess.Popen(
            words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=_environment(running)
        )
        self._thread = threading.Thread(target=self._listen, daemon=True)
        self._thread.start()
        self._heard.wait(FIRST_WORD)
        if self._server is None:
            self.close()
            raise ListeningError(self._why or "it does not answer")

    @property
    def server(self) -> Server:
        """How it ran when it was last heard of."""
        assert self._server is not None
        return self._server

    @property
    def is_gone(self) -> bool:
        return bool(self._why)

    def heard(self) -> Heard:
        """All that was told."""
        with self._lock:
            return Heard.of(self.server, self._xruns, self._states)

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            try:
                message = decode(line)
            except msgspec.MsgspecError:
                continue  # the server's library prints, too
            with self._lock:
                self._take(message)
            # The library may tell of the buffer before the first state is asked for.
            if self._server is not None or self._why:
                self._heard.set()
        with self._lock:
            self._why = self._why or "it no longer answers"
        self._heard.set()

    def _take(self, message: Message) -> None:
        match message:
            case Xrun(time, late):
                self._xruns.append((time, late))
            case Buffer(time, buffer):
                if self._server is not None and buffer != self._server.buffer:
                    self._tell_buffer(time, buffer)
            case Gone(time, why):
                self._why = why
                if self._server is not None:
                    self.events.append(Event(time, f"{self.running.kind} is gone: {why}"))
            case State(time, load, server):
                self._compare(time, server)
                self._server = server
                self._states.append((time, load))
                while self._states and self._states[0][0] < time - self._keep:
                    self._states.popleft()

    def _tell_buffer(self, time: int, buffer: int) -> None:
        assert self._server is not None
        self.since = time + SETTLED
        words = f"blocks are {buffer} samples from now on, before {self._server.buffer}"
        self.events.append(Event(time, words))
        self._server = self._server._replace(buffer=buffer)

    def _compare(self, time: int, now: Server) -> None:
        """Tells what has changed since the last state."""
        before = self._server
        if before is None:
            return
        old, new = ({client.name for client in each.clients} for each in (before, now))
        self.events += [Event(time, f"client {name} has come") for name in sorted(new - old)]
        self.events += [Event(time, f"client {name} has gone") for name in sorted(old - new)]
        if before.buffer != now.buffer:
            self._tell_buffer(time, now.buffer)

    def close(self) -> None:
        """Ends the listening; the server forgets the client."""
        end(self._process)
        self._thread.join(2)
        if self._process.stdout is not None:
            self._process.stdout.close()


def _environment(running: Running) -> dict[str, str]:
    """The environment in which the right edition of JACK's library is found."""
    if running.kind != "PipeWire":
        return dict(os.environ)
    folders = [str(folder) for pattern in PIPEWIRE_LIBRARIES for folder in Path("/").glob(pattern[1:])]
    before = os.environ.get("LD_LIBRARY_PATH", "")
    path = ":".join(filter(None, [*folders, before]))
    return {**os.environ, "LD_LIBRARY_PATH": path, "PIPEWIRE_REMOTE": running.name}
