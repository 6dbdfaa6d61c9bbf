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

    `measured_cores` is how many cores the one measured on has; 0 where that is not known. Of the cores, threads of one
    real core counted each, so many are `second` threads of a real one, and so many `slow`; `slow_second` are both. With
    `kept` it is the computer measured on, and the host is kept on these of its cores. `memory` is how much it has
    (bytes; 0: not known).
    """

    cores: int = 4
    speed: float = 1.0
    name: str = ""
    measured_cores: int = 0
    second: int = 0
    slow: int = 0
    slow_second: int = 0
    kept: bool = False
    memory: float = 0.0

    @property
    def is_another(self) -> bool:
        """Whether figures are scaled to it: it has another clock, or another number of cores, than measured on."""
        return self.speed != 1.0 or (self.measured_cores not in (0, self.cores) and not self.kept)

    @property
    def real(self) -> int:
        """How many real cores it has, fast and slow."""
        return max(self.cores - self.second, 1)

    @property
    def fast(self) -> int:
        """How many of its real cores are fast."""
        return max(self.real - (self.slow - self.slow_second), 0)

    def real_for(self, threads: int) -> float:
        """On how many of its real cores so many threads compute at once: what is expected if they lie anywhere, as
        threads in real time do on Linux."""
        pairs, count = min(self.second, self.cores // 2), self.cores
        free = max(count - threads, 0)
        both_free = free * (free - 1) / (count * (count - 1)) if count > 1 else 0.0
        return max(pairs * (1 - both_free) + (count - 2 * pairs) * (count - free) / count, 1.0)

    def in_pairs(self, threads: int) -> float:
        """With what chance something computes on the other thread of a core while so many compute (0 … 1)."""
        if self.cores < 2:
            return 0.0
        return min(2 * self.second / self.cores, 1.0) * (min(threads, self.cores) - 1) / (self.cores - 1)

    @property
    def on_slow(self) -> float:
        """Which share of what is computed lies on slow cores (0 … 1), if it may lie anywhere."""
        return min(self.slow / self.cores, 1.0)


def kept_on(cores: int, here: Machine) -> Machine:
    """The computer measured on, with its host kept on so many of its cores (at least one, at most all): the fast ones
    first, then the slow ones, then second threads in the same order."""
    count = max(1, min(cores, here.cores))
    second, slow = max(count - here.real, 0), min(max(count - here.fast, 0), here.slow - here.slow_second)
    slow_second = max(second - (here.second - here.slow_second), 0)
    return _part(here, count, second, slow + slow_second, slow_second)


def parts_of(here: Machine) -> dict[str, Machine]:
    """The computer measured on, with its host kept on those of its cores that are alike: on the fast ones ("fast"), on
    one thread of each real core ("each"), on one thread of each fast one ("fast-each")."""
    found = {}
    if here.slow:
        second = here.second - here.slow_second
        found["fast"] = _part(here, here.fast + second, second)
    if here.second:
        found["each"] = kept_on(here.real, here)
    if here.slow and here.second:
        found["fast-each"] = kept_on(here.fast, here)
    return found


def _part(here: Machine, cores: int, second: int, slow: int = 0, slow_second: int = 0) -> Machine:
    return Machine(cores, 1.0, here.name, here.cores, second, slow, slow_second, cores < here.cores, here.memory)


def seen_from(machine: Machine, here: Machine) -> Machine:
    """A machine as saved, on the computer that is measured on: it is that one, or a part of it, or another."""
    if machine.speed == 1.0 and not machine.kept and machine.cores == here.cores:
        return msgspec.structs.replace(here, name=machine.name)
    there = machine.slow <= here.slow and machine.second <= here.second and machine.fast <= here.fast
    kept = machine.kept and there and machine.cores < here.cores
    memory = here.memory if kept else machine.memory
    return msgspec.structs.replace(machine, measured_cores=here.cores, kept=kept, memory=memory)


def threads(host: Host, machine: Machine) -> int:
    """The number of threads that share a block: the cores, less those the host leaves free, at least one."""
    return max(1, machine.cores - host.cores_left_free)


def deadline(buffer: int, rate: int) -> float:
    """The duration of one block in seconds. ValueError unless both are positive."""
    if buffer <= 0 or rate <= 0:
        raise ValueError(f"a block needs a positive buffer size and rate, not {buffer} at {rate} Hz")
    return buffer / rate
