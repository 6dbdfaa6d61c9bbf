"""A sound server as it tells of itself: how it runs, its clients, and who feeds whom."""

from __future__ import annotations

from typing import Literal, NamedTuple

ServerKind = Literal["JACK", "PipeWire"]
# How the devices' own ports are called among the clients.
DEVICE = "system"


class Client(NamedTuple):
    """A client of a server: `process` is its number (0: not known), `inputs` and `outputs` count audio ports, `feeds`
    names the clients that its outputs are connected to, in order."""

    name: str
    process: int
    inputs: int
    outputs: int
    feeds: tuple[str, ...]


class Server(NamedTuple):
    """A server: `rate` in hertz, `buffer` in samples, `latency_in` and `latency_out` those of the device's ports in
    samples (−1: it has none, or does not say)."""

    kind: ServerKind
    name: str
    process: int
    rate: int
    buffer: int
    is_real_time: bool
    latency_in: int
    latency_out: int
    clients: tuple[Client, ...]

    @property
    def processes(self) -> tuple[int, ...]:
        """The server's process and those of its clients, each once, as far as they are known."""
        every = (self.process, *(client.process for client in self.clients))
        return tuple(dict.fromkeys(number for number in every if number))

    def clients_of(self, process: int) -> list[Client]:
        """The clients that run in a process."""
        return [client for client in self.clients if client.process == process and process]
