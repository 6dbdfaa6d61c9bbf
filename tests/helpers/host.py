"""A host of the tests' own, started beside them: what it does is known, and what it did it has logged."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest

HERE = Path(__file__).parent
# What plugins of `stalls` read, in the folder of their host.
ON_DISK = "on disk"


class Plugin(NamedTuple):
    """Work of so many ns a block, and so many more in every so manieth one. With an @ in its name it is that function
    of a file (see `several`)."""

    name: str
    ns: int
    every: int = 0
    burst: int = 0


class Log(NamedTuple):
    """What the host did by its own clock: N blocks, due, begun and ended (ns); and what each plugin took (N, P)."""

    due: np.ndarray
    begun: np.ndarray
    ended: np.ndarray
    taken: np.ndarray


class Host:
    """The running host, with `idle` threads beside and all files of a folder mapped. `log` waits for its end."""

    def __init__(
        self, folder: Path, plugins: list[Plugin], period: int = 2_000_000, blocks: int = 1500, threads: int = 1,
        late_every: int = 0, real_time: bool = True, idle: int = 0, files: Path | None = None,
        spin: int = 0, barrier: bool = False,
    ) -> None:  # fmt: skip
        self._log = folder / "log"
        program = built(folder, "host", "-ldl", "-lm", "-lpthread")
        words = [f"{p.name if '@' in p.name else _plugin(folder, p.name)}:{p.ns}:{p.every}:{p.burst}" for p in plugins]
        numbers = [str(each) for each in (period, blocks, threads)]
        more = {"HOST_IDLE": str(idle), "STALLS_FILE": str(folder / ON_DISK)}
        more |= {"HOST_FILES": str(files)} if files is not None else {}
        more |= {"HOST_SPIN": str(spin)} if spin else {}
        more |= {"HOST_BARRIER": "1"} if barrier else {}
        self.process = subprocess.Popen(
            [str(program), *numbers, str(self._log), str(int(real_time)), str(late_every), *words],
            stdout=subprocess.PIPE, text=True, env={**os.environ, **more},
        )  # fmt: skip
        assert self.process.stdout is not None
        assert self.process.stdout.readline() == "ready\n"

    @property
    def pid(self) -> int:
        return self.process.pid

    def log(self) -> Log:
        assert self.process.wait(60) == 0
        rows = np.loadtxt(self._log, np.int64, ndmin=2)
        return Log(rows[:, 0], rows[:, 1], rows[:, 2], rows[:, 3:])

    def __enter__(self) -> Host:
        return self

    def __exit__(self, *_: object) -> None:
        self.process.kill()
        self.process.wait()
        if self.process.stdout:
            self.process.stdout.close()


def has_its_cores(log: Log, period: int, most: float) -> None:
    """Skips a test of which there is nothing to be seen, since more of a host's blocks than that (a part) were late by
    its own log: others hold the cores."""
    late = float((log.ended > log.due + period).mean())
    if late > most:
        pytest.skip(f"others hold the cores: the host itself is late in {100 * late:.0f} % of its blocks")


def stolen() -> tuple[int, int]:
    """How much of its time other guests of its machine have taken from this computer so far, and all of it (ticks)."""
    ticks = [int(word) for word in Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:]]
    return ticks[7], sum(ticks[:8])


def had_its_cores(since: tuple[int, int], most: float = 0.15) -> None:
    """Skips a test in which more than such a part of the time was taken away, as `stolen` tells: a host that has no
    cores keeps no cycle."""
    taken, whole = (now - then for now, then in zip(stolen(), since, strict=True))
    if taken > most * whole:
        pytest.skip(f"others hold the cores: {100 * taken / whole:.0f} % of the time was taken from this computer")


def built(folder: Path, name: str, *flags: str) -> Path:
    """A program of one C file; without a C compiler the tests that need it are skipped."""
    if shutil.which("gcc") is None:
        pytest.skip("no C compiler to build the host with")
    program = folder / name
    if not program.exists():
        subprocess.run(["gcc", "-O2", "-o", str(program), str(HERE / f"{name}.c"), *flags], check=True)
    return program


def _plugin(folder: Path, name: str) -> Path:
    """A file with work in it where LV2 plugins lie."""
    bundle = folder / f"{name}.lv2"
    bundle.mkdir(exist_ok=True)
    file = bundle / f"{name}.so"
    if not file.exists():
        subprocess.run(
            ["gcc", "-O2", "-fPIC", "-shared", "-fno-builtin", "-o", str(file), str(HERE / "work.c"), "-lm"], check=True
        )
    return file


def in_one_file(folder: Path, stripped: bool = False, **work: int) -> tuple[Path, list[Plugin]]:
    """The file of `several`, and the plugins for a host whose functions in it work so long a block (ns)."""
    built(folder, "host", "-ldl", "-lm", "-lpthread")
    file = several(folder, stripped)
    return file, [Plugin(f"{file}@run_{name}", ns) for name, ns in work.items()]


def stalls(folder: Path, what: str, every: int, ns: int) -> Plugin:
    """A plugin that takes so long in every so manieth block without computing (see `stalls.c`)."""
    built(folder, "host", "-ldl", "-lm", "-lpthread")
    file, large = folder / "ladspa" / "stalls.so", folder / ON_DISK
    file.parent.mkdir(exist_ok=True)
    subprocess.run(["gcc", "-O2", "-fPIC", "-shared", "-o", str(file), str(HERE / "stalls.c")], check=True)
    with large.open("wb") as out:
        out.write(bytes(range(256)) * (1 << 18))
        os.fsync(out.fileno())
    return Plugin(f"{file}@{what}", 0, every, ns)


def several(folder: Path, stripped: bool = False) -> Path:
    """A LADSPA file with four plugins (see `several.c`), where such files lie; with the names of functions or not."""
    file = folder / "ladspa" / "several.so"
    file.parent.mkdir(exist_ok=True)
    flags = ["-O2", "-fPIC", "-shared", "-fno-builtin", *(["-s"] if stripped else [])]
    subprocess.run(["gcc", *flags, "-o", str(file), str(HERE / "several.c"), "-lm"], check=True)
    return file
