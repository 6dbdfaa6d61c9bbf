"""The computer, the audio device and the host that are to play the session; buffer sizes and the deadline."""

from __future__ import annotations

import msgspec

from .panning import PanLaw

BUFFER_SIZES: tuple[int, ...] = (32, 64, 128, 256, 512, 1024, 2048, 4096)

# Sample rates that sessions usually have (hertz).
RATES: tuple[int, ...] = (44100, 48000, 88200, 96000, 176400, 192000)


class Host(msgspec.Struct, frozen=True):
    """How the host spends its time beside the plugins: seconds of overhead per strip and plugin in each block.

    `read_ahead` is the block in samples in which it computes ahead all that is not live; 0 if it does not. `suspends`
    says that it leaves out what is silent. `plugin_factor` is how many times dearer plugins are in it than measured.
    `listed` says that it takes tracks in the order of the session, not the one with the longest path first.
    `tail_limit` is how long it lets a tail sound, in seconds, before it suspends. `parts` is into how many parts it
    divides a block that several threads share, so that a strip can begin before what feeds it is through. `pan_law` is
    what it pans by; empty where that is not known.
    """

    cores_left_free: int = 0
    strip_overhead: float = 0.0
    plugin_overhead: float = 0.0
    read_ahead: int = 0
    suspends: bool = False
    plugin_factor: float = 1.0
    listed: bool = False
    tail_limit: float = 10.0
    parts: int = 1
    pan_law: PanLaw = ""


class Device(msgspec.Struct, frozen=True):
    """The audio device: buffers between input and output, samples of safety, seconds in its converters.

    `outboard` is how many plugins a processing device outside the computer has room for. `heard_within` is how soon (in
    seconds) whoever is recorded must hear himself; 0 if that does not matter.
    """

    periods: int = 2
    safety: int = 0
    converters: float = 0.0
    outboard: int = 0
    heard_within: float = 0.0


class Machine(msgspec.Struct, frozen=True):
    """The computer that is to play the session: core count, and speed against the one measured on (1 = equal).

    `measured_cores` is how many cores the one measured on has; 0 where that is not known.
    """

    cores: int = 4
    speed: float = 1.0
    name: str = ""
    measured_cores: int = 0

    @property
    def is_another(self) -> bool:
        """Whether figures are scaled to it: it has another clock, or another number of cores, than measured on."""
        return self.speed != 1.0 or self.measured_cores not in (0, self.cores)


def threads(host: Host, machine: Machine) -> int:
    """The number of threads that share a block: the cores, less those the host leaves free, at least one."""
    return max(1, machine.cores - host.cores_left_free)


def deadline(buffer: int, rate: int) -> float:
    """The duration of one block in seconds. ValueError unless both are positive."""
    if buffer <= 0 or rate <= 0:
        raise ValueError(f"a block needs a positive buffer size and rate, not {buffer} at {rate} Hz")
    return buffer / rate
