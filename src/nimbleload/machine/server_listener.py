"""Listens to one sound server as a client without ports, in a process of its own.

The server's library runs threads of its own, and ends or hangs when its server does; nothing of that must reach the
window. Nothing is connected, disconnected or set. Run as `python -m nimbleload.machine.server_listener KIND NAME PID`;
ends when its input is closed, or when the server is gone.
"""

from __future__ import annotations

import ctypes
import ctypes.util
import os
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

from ..core.watching.server import DEVICE, Client, Server, ServerKind
from . import sound_servers
from .server_messages import Buffer, Gone, Message, State, Xrun, encode

NAME = "nimble-load"
EVERY = 0.5
TRIES = 4
LIBRARY = "libjack.so.0"
CAPTURE, PLAYBACK = 0, 1


class _Range(ctypes.Structure):
    _fields_ = [("least", ctypes.c_uint32), ("most", ctypes.c_uint32)]


class Listener:
    """One client of a server; what it hears goes to standard output."""

    def __init__(self, jack: Any, kind: ServerKind, name: str, process: int) -> None:
        self._jack, self._kind, self._name, self._process = jack, kind, name, process
        self._lock = threading.Lock()
        self._named: tuple[tuple[str, ...], dict[str, int]] = ((), {})
        self.gone = threading.Event()
        server = {"servername": name} if kind == "JACK" else {}
        self._client = self._joined(lambda: jack.Client(NAME, no_start_server=True, **server))

    def _joined(self, make: Callable[[], Any]) -> Any:
        """A client that the server has taken in. One that is late with its own work answers too late now and then."""
        failed: Exception = AssertionError("it was not tried")
        for _ in range(TRIES):
            client = make()
            client.set_xrun_callback(self._xrun)
            client.set_blocksize_callback(self._blocksize)
            client.set_shutdown_callback(self._shutdown)
            try:
                client.activate()
                return client
            except self._jack.JackError as error:
                failed = error
                client.close()
            self.gone.wait(EVERY)
        raise failed

    def tell(self, message: Message) -> None:
        line = encode(message) + b"\n"
        with self._lock:
            os.write(1, line)

    def _xrun(self, microseconds: float) -> None:
        self.tell(Xrun(time.monotonic_ns(), max(microseconds, 0.0) / 1e6))

    def _blocksize(self, samples: int) -> None:
        self.tell(Buffer(time.monotonic_ns(), samples))

    def _shutdown(self, _status: object, why: str) -> None:
        self.tell(Gone(time.monotonic_ns(), why or "it has ended"))
        self.gone.set()

    def state(self) -> State:
        """How the server runs now."""
        client, clients = self._client, self._clients()
        server = Server(
            self._kind, self._name, self._process, client.samplerate, client.blocksize, bool(client.realtime),
            self._latency(CAPTURE), self._latency(PLAYBACK), clients,
        )  # fmt: skip
        return State(time.monotonic_ns(), client.cpu_load() / 100, server)

    def _clients(self) -> tuple[Client, ...]:
        ports = self._client.get_ports(is_audio=True)
        names = tuple(dict.fromkeys(_client_of(port.name) for port in ports))
        if names != self._named[0]:
            self._named = (names, self._processes())
        found = []
        for name in names:
            own = [port for port in ports if _client_of(port.name) == name]
            outputs = [port for port in own if port.is_output]
            fed = (_client_of(p.name) for port in outputs for p in self._client.get_all_connections(port))
            process = self._named[1].get(name, 0)
            found.append(Client(name, process, len(own) - len(outputs), len(outputs), tuple(dict.fromkeys(fed))))
        return tuple(found)

    def _processes(self) -> dict[str, int]:
        """The clients' processes; those of the device are the server's own."""
        if self._kind == "PipeWire":
            return sound_servers.pipewire_clients(self._name)
        return {**sound_servers.jack_clients(), DEVICE: self._process}

    def _latency(self, which: int) -> int:
        """The most that the device's ports delay (samples); −1 without such ports."""
        ports = self._client.get_ports(is_audio=True, is_physical=True, is_output=which == CAPTURE)
        ports = [port for port in ports if port.is_output == (which == CAPTURE)]
        library, found = ctypes.CDLL(LIBRARY), []
        library.jack_port_get_latency_range.argtypes = (ctypes.c_void_p, ctypes.c_int, ctypes.c_void_p)
        for port in ports:
            delay = _Range()
            address = int(self._jack._ffi.cast("uintptr_t", port._ptr))
            library.jack_port_get_latency_range(address, which, ctypes.byref(delay))
            found.append(delay.most)
        return max(found, default=-1)


def _client_of(port: str) -> str:
    return port.partition(":")[0]


def _library(_name: str) -> str:
    """Where only PipeWire's edition is there, the linker does not list it."""
    return LIBRARY


def main() -> None:
    """Tells what the server says until there is nobody left to hear it, or the server is gone."""
    kind: ServerKind = "PipeWire" if sys.argv[1] == "PipeWire" else "JACK"
    try:
        ctypes.CDLL(LIBRARY)
        ctypes.util.find_library = _library  # type: ignore[assignment]
        import jack

        for silenced in (jack.set_error_function, jack.set_info_function):
            silenced(lambda _words: None)
        listener = Listener(jack, kind, sys.argv[2], int(sys.argv[3]))
    except Exception as error:
        os.write(1, encode(Gone(time.monotonic_ns(), f"{type(error).__name__}: {error}")) + b"\n")
        return
    threading.Thread(target=_end_with_input, daemon=True).start()
    while not listener.gone.is_set():
        try:
            listener.tell(listener.state())
        except jack.JackError as error:
            listener.tell(Gone(time.monotonic_ns(), str(error)))
            break
        listener.gone.wait(EVERY)
    # The library waits for a server that is gone.
    os._exit(0)


def _end_with_input() -> None:
    while os.read(0, 4096):
        pass
    os._exit(0)


if __name__ == "__main__":
    main()
