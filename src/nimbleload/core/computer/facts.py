"""What can be seen of a computer that matters for audio blocks. What cannot be seen is None, never "fine"."""

from __future__ import annotations

import msgspec


class Core(msgspec.Struct, frozen=True):
    """One core: who sets its clock and how (clocks in kHz); `siblings` are the cores it shares its units with.

    `most` is how fast it can run, `cap` how fast it is allowed to. `throttled` counts how often it slowed down because
    it was hot, since the computer started. `is_slow` says that others are clearly faster.
    """

    number: int
    governor: str | None = None
    preference: str | None = None
    clock: int | None = None
    least: int | None = None
    most: int | None = None
    siblings: tuple[int, ...] = ()
    throttled: int | None = None
    is_slow: bool = False
    cap: int | None = None

    @property
    def is_first(self) -> bool:
        """Whether it is the first thread of a real core, by number."""
        return self.number == min(self.siblings, default=self.number)


class PowerLimit(msgspec.Struct, frozen=True):
    """What a processor may draw (watts): `lasting`, and for so many `seconds` as much as `short`."""

    lasting: float
    short: float
    seconds: float


class IdleState(msgspec.Struct, frozen=True):
    """A state in which a core rests, and how long it takes to wake up from it (seconds)."""

    name: str
    latency: float
    is_off: bool = False


class Supply(msgspec.Struct, frozen=True):
    """A battery or a mains supply: `kind` as the kernel calls it, and whether it gives power now."""

    kind: str
    is_on: bool


class Radio(msgspec.Struct, frozen=True):
    """A radio (`kind`: wlan, bluetooth …), and whether it is on."""

    kind: str
    is_on: bool


class Disk(msgspec.Struct, frozen=True):
    """A place where files lie: `path`, bytes in all and free, its file system, and whether it has turning platters."""

    path: str
    total: int
    free: int
    system: str = ""
    turns: bool | None = None


class AudioDevice(msgspec.Struct, frozen=True):
    """An audio device that is open: its name, frames a period, rate (Hz) and channels; zeros while it is closed."""

    name: str
    period: int = 0
    buffer: int = 0
    rate: int = 0
    channels: int = 0


class Interrupts(msgspec.Struct, frozen=True):
    """A source of interrupts: what it is called, and how many each core took in the time it was watched."""

    name: str
    by_core: tuple[int, ...]


class Limits(msgspec.Struct, frozen=True):
    """What this user may do: the highest priority in real time, bytes of locked memory (−1: no limit), and whether a
    thread was really given real time when it asked. `by_service` says that there is a service (rtkit) that gives it to
    whoever asks that: sound servers do, for one thread of each of their clients."""

    priority: int | None = None
    locked: int | None = None
    is_given: bool | None = None
    groups: tuple[str, ...] = ()
    granted_by: str = ""
    by_service: bool = False


class Memory(msgspec.Struct, frozen=True):
    """Bytes of memory; `swapping` is pages swapped in and out a second while it was watched, `pressure` the share of
    time in which something waited for memory, in the last minute (0 … 1). `is_packed` says that nothing is swapped to a
    disk, only packed into memory (zram)."""

    total: int | None = None
    available: int | None = None
    swap_used: int | None = None
    swappiness: int | None = None
    swapping: float | None = None
    pressure: float | None = None
    is_packed: bool = False


class Kernel(msgspec.Struct, frozen=True):
    """The kernel: its release, how it may be interrupted ("rt", "full", "lazy", "voluntary", "none"), and what `words`
    it was started with.

    `real_time_share` is how much of the time threads in real time may take, all together (1: all).
    """

    release: str = ""
    preemption: str | None = None
    words: tuple[str, ...] = ()
    real_time_share: float | None = None
    clock_source: str | None = None
    watching: int | None = None


class Busy(msgspec.Struct, frozen=True):
    """What one program did while it was watched: `cpu` in cores, `wakes` a second, bytes a second from and to disks. So
    much of its `cpu` was that of others that it `started` and that ended again."""

    number: int
    name: str
    cpu: float
    wakes: float = 0.0
    disk: float = 0.0
    started: float = 0.0


class Facts(msgspec.Struct, frozen=True):
    """All that was seen. `distribution` is the identifier in os-release, `stolen` the share of time that a virtual
    computer was not given, `watched` for how many seconds what changes was watched, `apart` the cores on which nothing
    runs that was not put there. `profile` is what the firmware is told to prefer, of `profiles` that it has. `heated`
    is how often a core slowed down for heat while it was watched, `celsius` how hot the processor is. `chain` is
    what a known chain of steps takes at the best clock that a core comes to (seconds; 0: not looked at)."""

    cores: tuple[Core, ...] = ()
    idle: tuple[IdleState, ...] | None = None
    boost: bool | None = None
    kernel: Kernel = Kernel()
    limits: Limits = Limits()
    memory: Memory = Memory()
    disks: tuple[Disk, ...] = ()
    supplies: tuple[Supply, ...] | None = None
    radios: tuple[Radio, ...] | None = None
    devices: tuple[AudioDevice, ...] | None = None
    interrupts: tuple[Interrupts, ...] | None = None
    is_virtual: bool | None = None
    stolen: float | None = None
    distribution: str = ""
    busy: tuple[Busy, ...] = ()
    watched: float = 0.0
    apart: tuple[int, ...] = ()
    power_limit: PowerLimit | None = None
    profile: str = ""
    profiles: tuple[str, ...] = ()
    heated: int = 0
    celsius: float | None = None
    chain: float = 0.0
