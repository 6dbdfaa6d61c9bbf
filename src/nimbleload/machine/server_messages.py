"""What the process that listens to a sound server tells this program: a line of JSON each."""

from __future__ import annotations

import msgspec

from ..core.watching.server import Server
from ..native.decoding import decoder


class State(msgspec.Struct, frozen=True, tag="state"):
    """How the server runs at a time (ns); `load` is its own figure (share of the deadline)."""

    time: int
    load: float
    server: Server


class Xrun(msgspec.Struct, frozen=True, tag="xrun"):
    """A block that the server gave up: when that was told (ns), and by how much it was late (seconds)."""

    time: int
    late: float


class Buffer(msgspec.Struct, frozen=True, tag="buffer"):
    """From that time (ns) on blocks are so many samples long."""

    time: int
    buffer: int


class Gone(msgspec.Struct, frozen=True, tag="gone"):
    """The server is gone, or cannot be listened to: when (ns), and why, in words."""

    time: int
    why: str


Message = State | Xrun | Buffer | Gone
encode = msgspec.json.Encoder().encode
decode = decoder(Message).decode
