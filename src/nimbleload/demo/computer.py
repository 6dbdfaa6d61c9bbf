"""The computer of the example: a laptop with six cores, made up, with what would be found out about it."""

from __future__ import annotations

import math

from ..core.computer.ceiling import HIGHEST, Ceiling, Held
from ..core.computer.facts import (
    AudioDevice,
    Busy,
    Core,
    Disk,
    Facts,
    IdleState,
    Kernel,
    Limits,
    Memory,
    PowerLimit,
    Radio,
    Supply,
)
from ..core.computer.lasting import Lasting, Stretch

CORES, RATE, SECONDS = 6, 48000, 2.0
# It keeps its pace for half a minute, and a little less each minute after, to this many times as long.
QUICK_FOR, STRETCH, AT_FIRST, IN_THE_END, SETTLES = 30.0, 5.0, 1.17, 1.21, 90.0
HELD = {64: 0.55, 128: 0.7, 256: 0.8, 512: 0.85, 1024: 0.9}


def facts() -> Facts:
    """What would be seen of it."""
    cores = tuple(
        Core(number, "powersave", "balance_power", 900_000, 800_000, 4_200_000, (number,), 3, cap=4_200_000)
        for number in range(CORES)
    )
    idle = (IdleState("C1", 2e-6), IdleState("C6", 85e-6), IdleState("C10", 680e-6))
    return Facts(
        cores, idle, True, Kernel("6.1.0-18-amd64", "voluntary", ("quiet",), 0.95, "tsc", 2),
        Limits(95, -1, True, ("audio",), "/etc/security/limits.d/60-audio.conf"),
        Memory(16 << 30, 9 << 30, 0, 60, 0.0, 0.0), (Disk("/home/ferry", 500 * 10**9, 31 * 10**9, "ext4", False),),
        (Supply("Mains", True), Supply("Battery", False)), (Radio("wlan", True),),
        (AudioDevice("Harbour", 256, 512, 48000, 2),), (), False, 0.0, "debian",
        (Busy(2210, "photo-indexer", 0.21, 340.0, 12e6), Busy(1840, "cloud-folder", 0.07, 90.0, 0.0)), 10.0,
        (), PowerLimit(25.0, 54.0, 28.0), "balanced", ("low-power", "balanced", "performance"), 0, 71.0,
    )  # fmt: skip


def ceilings() -> tuple[Ceiling, ...]:
    """What it would be found to hold."""
    return tuple(
        Ceiling(
            size, RATE, CORES, SECONDS, load, load - 0.02, min(load + 0.04, HIGHEST), 0.04, 1.2, 0.4e-3, 0,
            (Held(load, 375, 0, 0.97, True),),
        )
        for size, load in HELD.items()
    )


def lasting() -> Lasting:
    """How long it would keep its pace: its power limit does not last, and then it gets warm."""
    found = []
    for k in range(1, 61):
        until = k * STRETCH
        warm = 1 - math.exp(-max(until - QUICK_FOR, 0.0) / SETTLES)
        times = 1.0 if until <= QUICK_FOR else AT_FIRST + (IN_THE_END - AT_FIRST) * warm
        times += 0.004 * math.sin(7.0 * k)
        found.append(Stretch(until, times, 937, 0, True, 4.1e9 / times))
    return Lasting(0.5, 256, RATE, CORES, tuple(found))
