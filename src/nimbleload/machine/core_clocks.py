"""At which clock the cores run, as the kernel tells; read again and again, so files stay open."""

from __future__ import annotations

import os
import time
from pathlib import Path

import numpy as np

from ..core.watching.records import Clocks
from ..native.cores import ROOT, present
from ..native.reading import as_number, number

CPU = "sys/devices/system/cpu"
# An hour of looks, one a second; when there is no more room the first half of them goes.
MOST = 3600
CLOCK = "cpufreq/scaling_cur_freq"
HOT = ("thermal_throttle/core_throttle_count", "thermal_throttle/package_throttle_count")


class CoreClocks:
    """Looks at the clock of each core that is on below a root folder, and at how often it has been slowed down for
    heat. Cores whose clock the kernel does not tell are left out; in most virtual machines that is all of them."""

    def __init__(self, root: Path = ROOT) -> None:
        folders = {core: root / CPU / f"cpu{core}" for core in sorted(present(root))}
        told = {core: folder for core, folder in folders.items() if number(folder / CLOCK)}
        self._core = np.array(list(told), np.int64)
        self._most = np.array([1000 * (number(at / "cpufreq/cpuinfo_max_freq") or 0) for at in told.values()], np.int64)
        self._files = [[_opened(folder / name) for name in (CLOCK, *HOT)] for folder in told.values()]
        self._time, self._count = np.zeros(MOST, np.int64), 0
        self._clock, self._hot = np.zeros((2, MOST, len(told)), np.int64)

    def look(self) -> None:
        """Looks once, if there is anything to be seen."""
        if not self._files:
            return
        if self._count == MOST:
            self._count = MOST // 2
            for kept in (self._time, self._clock, self._hot):
                kept[: self._count] = kept[-self._count :]
        for core, (clock, *hot) in enumerate(self._files):
            self._clock[self._count, core] = 1000 * _read(clock)
            # A core that is too hot is counted by itself, with others of its processor, or both.
            self._hot[self._count, core] = max(_read(file) for file in hot)
        self._time[self._count] = time.monotonic_ns()
        self._count += 1

    @property
    def found(self) -> Clocks:
        """What all looks told."""
        looks = (each[: self._count].copy() for each in (self._time, self._clock, self._hot))
        return Clocks(self._core, self._most, *looks)

    def close(self) -> None:
        for file in (each for files in self._files for each in files if each is not None):
            os.close(file)
        self._files = []


def _opened(path: Path) -> int | None:
    try:
        return os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return None


def _read(file: int | None) -> int:
    """The number that stands in it now; 0 if none does: a core may have been switched off."""
    try:
        return as_number(os.pread(file, 32, 0).decode(errors="replace")) or 0 if file is not None else 0
    except OSError:
        return 0
