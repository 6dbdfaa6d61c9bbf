"""Looks at the computer: everything that is read lies below one root folder, so that those of a test can stand in."""

from __future__ import annotations

import gzip
import os
import shutil
import threading
import time
import zlib
from collections.abc import Callable, Iterable
from pathlib import Path

from ..core.computer.facts import (
    AudioDevice,
    Core,
    Disk,
    Facts,
    IdleState,
    Interrupts,
    Kernel,
    Limits,
    Memory,
    PowerLimit,
    Radio,
    Supply,
)
from ..native import power
from ..native.cores import siblings, slow_ones
from ..native.reading import as_number, in_meminfo, inside, number, numbers, pairs, text
from ..store import mounts
from . import clock_now
from .background import Sample, busy_between, sample
from .core_clocks import CPU, HOT

ROOT = Path("/")
WATCH_SECONDS = 10.0
# What the firmware is told to prefer: speed, quiet, a long battery life.
PROFILE = "sys/firmware/acpi/platform_profile"
UNLIMITED = -1
# The service that gives real time to sound servers, where this user may not take it.
SERVICE = "usr/share/dbus-1/system-services/org.freedesktop.RealtimeKit1.service"
# Where distributions keep what a kernel was built with, by its release; the last is packed.
BUILT_WITH = ("boot/config-{}", "lib/modules/{}/config", "proc/config.gz")
# Sensors that tell how hot a processor is, by how the kernel calls their kind.
SENSORS = ("x86_pkg_temp", "cpu-thermal", "cpu_thermal", "k10temp", "zenpower", "coretemp")


def look(
    root: Path = ROOT,
    seconds: float = WATCH_SECONDS,
    places: Iterable[Path] | None = None,
    sleep: Callable[[float], object] = time.sleep,
    cancelled: Callable[[], bool] = lambda: False,
) -> Facts:
    """All that can be seen, what changes watched for so many seconds. `places` are where free space matters.

    `sleep` waits for so long; it may return early, and what was watched is then shorter. How fast a core is now is not
    looked at any more once it is `cancelled`.
    """
    first, hot, begun = sample(root), throttled(cores(root)), time.monotonic()
    if seconds > 0:
        sleep(seconds)
    last, here = sample(root), cores(root)
    watched = max(time.monotonic() - begun, 1e-3)
    rooms = tuple(each for place in ([Path.home()] if places is None else places) if (each := disk(place, root)))
    return Facts(
        here, idle_states(root), boost(root), kernel(root), limits(root, root == ROOT),
        memory(root, first, last, watched), rooms, supplies(root), radios(root), devices(root),
        interrupts(first, last), is_virtual(root), stolen(first, last), distribution(root),
        busy_between(first, last, watched), watched if seconds > 0 else 0.0, numbers(text(root / CPU / "isolated")),
        power_limit(root), text(root / PROFILE) or "", tuple((text(root / f"{PROFILE}_choices") or "").split()),
        max((after - hot.get(core, after) for core, after in throttled(here).items()), default=0), celsius(root),
        clock_now.ask(cancelled) if root == ROOT and seconds > 0 and not cancelled() else 0.0,
    )  # fmt: skip


def cores(root: Path) -> tuple[Core, ...]:
    """Every core that is on."""
    found, folders = [], list(inside(root / CPU, "cpu[0-9]*"))
    slow = slow_ones(root, {int(folder.name[3:]) for folder in folders})
    for folder in folders:
        scaling, core = folder / "cpufreq", int(folder.name[3:])
        found.append(
            Core(
                core, text(scaling / "scaling_governor"),
                text(scaling / "energy_performance_preference"), number(scaling / "scaling_cur_freq"),
                number(scaling / "cpuinfo_min_freq"), number(scaling / "cpuinfo_max_freq"),
                tuple(sorted(siblings(root, core))),
                _throttled(folder), core in slow, number(scaling / "scaling_max_freq"),
            )
        )  # fmt: skip
    return tuple(found)


def _throttled(folder: Path) -> int | None:
    """How often a core slowed down for heat, its own or its processor's; None if it cannot be seen."""
    return max((told for name in HOT if (told := number(folder / name)) is not None), default=None)


def throttled(found: Iterable[Core]) -> dict[int, int]:
    """How often each core slowed down for heat since the computer was started, where that can be seen."""
    return {core.number: core.throttled for core in found if core.throttled is not None}


def power_limit(root: Path) -> PowerLimit | None:
    """What the first processor may draw; None if it cannot be seen."""
    folder, found = root / "sys/class/powercap/intel-rapl:0", dict[str, tuple[int, int]]()
    for file in inside(folder, "constraint_*_name"):
        told = (file.name.replace("name", each) for each in ("power_limit_uw", "time_window_us"))
        limit, window = (number(folder / name) for name in told)
        if limit:
            found[text(file) or ""] = limit, window or 0
    if not {"long_term", "short_term"} <= found.keys():
        return None
    (lasting, window), (short, _) = found["long_term"], found["short_term"]
    return PowerLimit(lasting / 1e6, short / 1e6, window / 1e6)


def celsius(root: Path) -> float | None:
    """How hot the hottest processor is; None if it cannot be seen."""
    zones = ((zone / "type", (zone / "temp",)) for zone in inside(root / "sys/class/thermal", "thermal_zone*"))
    chips = ((chip / "name", inside(chip, "temp*_input")) for chip in inside(root / "sys/class/hwmon", "hwmon*"))
    told = (number(file) for kind, files in (*zones, *chips) if text(kind) in SENSORS for file in files)
    return max((each / 1000 for each in told if each is not None), default=None)


def idle_states(root: Path) -> tuple[IdleState, ...] | None:
    """The resting states of the first core; None if it cannot be seen."""
    folder = root / CPU / "cpu0" / "cpuidle"
    if not folder.is_dir():
        return None
    states = []
    for state in inside(folder, "state[0-9]*"):
        latency = number(state / "latency")
        if latency is not None:
            states.append(IdleState(text(state / "name") or state.name, latency / 1e6, number(state / "disable") == 1))
    return tuple(states)


def boost(root: Path) -> bool | None:
    """Whether cores may run above their nominal clock; None if it cannot be seen."""
    intel, other = number(root / CPU / "intel_pstate" / "no_turbo"), number(root / CPU / "cpufreq" / "boost")
    return intel == 0 if intel is not None else other == 1 if other is not None else None


def kernel(root: Path) -> Kernel:
    """The kernel, as far as it tells."""
    version, words = text(root / "proc/version") or "", (text(root / "proc/cmdline") or "").split()
    asked = next((word.partition("=")[2] for word in words if word.startswith("preempt=")), None)
    now = text(root / "sys/kernel/debug/sched/preempt")
    chosen = now[now.index("(") + 1 : now.index(")")] if now and "(" in now and ")" in now else None
    if "PREEMPT_RT" in version or number(root / "sys/kernel/realtime") == 1:
        preemption: str | None = "rt"
    elif chosen or asked:
        preemption = chosen or asked
    elif "PREEMPT_DYNAMIC" in version:
        preemption = _built_with(root, version)
    else:
        preemption = "full" if "PREEMPT" in version else "voluntary" if version else None
    runtime, period = (number(root / f"proc/sys/kernel/sched_rt_{part}_us") for part in ("runtime", "period"))
    share = None if runtime is None or not period else 1.0 if runtime < 0 else runtime / period
    release = version.split()[2] if len(version.split()) > 2 else ""
    source = text(root / "sys/devices/system/clocksource/clocksource0/current_clocksource")
    return Kernel(
        release, preemption, tuple(words), share, source, number(root / "proc/sys/kernel/perf_event_paranoid")
    )


def _built_with(root: Path, version: str) -> str | None:
    """How a kernel can be interrupted that is told nothing of it at its start: as its configuration says."""
    release = version.split()[2] if len(version.split()) > 2 else ""
    told = (_unpacked(root / name.format(release)) for name in BUILT_WITH if release or "{}" not in name)
    words = {"CONFIG_PREEMPT_NONE=y": "none", "CONFIG_PREEMPT_VOLUNTARY=y": "voluntary", "CONFIG_PREEMPT=y": "full",
             "CONFIG_PREEMPT_LAZY=y": "lazy"}  # fmt: skip
    lines = next((each for each in told if each), "").splitlines()
    return next((word for line, word in words.items() if line in lines), None)


def _unpacked(path: Path) -> str | None:
    """What stands in a file that may be packed; None if it is not there or cannot be read."""
    if path.suffix != ".gz":
        return text(path)
    try:
        return gzip.decompress(path.read_bytes()).decode(errors="replace")
    except (OSError, EOFError, zlib.error):
        return None


def limits(root: Path, is_here: bool) -> Limits:
    """What this user may do. Whether real time is really given is tried, on this computer only."""
    priority = locked = None
    for line in (text(root / "proc/self/limits") or "").splitlines():
        if line.startswith("Max realtime priority"):
            priority = _limit(line[26:])
        elif line.startswith("Max locked memory"):
            locked = _limit(line[26:])
    granted = next(
        (
            str(Path("/") / file.relative_to(root))
            for folder in ("etc/security/limits.d", "etc/security")
            for file in inside(root / folder, "*.conf")
            if any("rtprio" in line and not line.lstrip().startswith("#") for line in (text(file) or "").splitlines())
        ),
        "",
    )
    by_service = (root / SERVICE).exists()
    return Limits(priority, locked, is_given() if is_here else None, groups(root), granted, by_service)


def _limit(words: str) -> int | None:
    return UNLIMITED if words.split()[:1] == ["unlimited"] else as_number(words)


def groups(root: Path) -> tuple[str, ...]:
    """The groups that this process belongs to."""
    own = set(numbers(pairs(root / "proc/self/status").get("Groups", "").replace("\t", " ")))
    found = []
    for line in (text(root / "etc/group") or "").splitlines():
        parts = line.split(":")
        if len(parts) > 2 and parts[2].isdigit() and int(parts[2]) in own:
            found.append(parts[0])
    return tuple(found)


def is_given() -> bool:
    """Whether a thread of this program is given real time when it asks."""
    given: list[bool] = []

    def ask() -> None:
        try:
            os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(1))
            given.append(os.sched_getscheduler(0) == os.SCHED_FIFO)
        except OSError:
            given.append(False)

    thread = threading.Thread(target=ask)
    thread.start()
    thread.join()
    return given == [True]


def memory(root: Path, first: Sample, last: Sample, seconds: float) -> Memory:
    """How much there is, and whether it is short."""
    swap, free = in_meminfo(root, "SwapTotal"), in_meminfo(root, "SwapFree")
    pressure = None
    for line in (text(root / "proc/pressure/memory") or "").splitlines():
        if line.startswith("some"):
            values = dict(part.split("=") for part in line.split()[1:] if "=" in part)
            pressure = float(values.get("avg60", "0")) / 100
    swapped = None if first.swapped is None or last.swapped is None else (last.swapped - first.swapped) / seconds
    return Memory(
        in_meminfo(root, "MemTotal"), in_meminfo(root, "MemAvailable"),
        None if swap is None or free is None else swap - free,
        number(root / "proc/sys/vm/swappiness"), swapped, pressure, _is_packed(root),
    )  # fmt: skip


def _is_packed(root: Path) -> bool:
    """Whether what is swapped goes into memory again, packed, and nowhere else."""
    places = [line.split()[0] for line in (text(root / "proc/swaps") or "").splitlines()[1:] if line.split()]
    return bool(places) and all(place.startswith("/dev/zram") for place in places)


def disk(place: Path, root: Path) -> Disk | None:
    """How much room there is where a folder lies, on what kind of disk; None if it cannot be reached."""
    try:
        usage = shutil.disk_usage(place if place.exists() else ROOT)
    except OSError:
        return None
    device, system = mounts.over(place, text(root / "proc/self/mounts") or "")
    name = Path(device).name
    turns = next(
        (
            number(block / "queue" / "rotational") == 1
            for block in inside(root / "sys/block", "*")
            if name.startswith(block.name) and (block / "queue" / "rotational").exists()
        ),
        None,
    )
    return Disk(str(place), usage.total, usage.free, system, turns)


def supplies(root: Path) -> tuple[Supply, ...] | None:
    """Batteries and mains; None if that cannot be seen."""
    found = power.supplies(root)
    return None if found is None else tuple(Supply(*each) for each in found)


def radios(root: Path) -> tuple[Radio, ...] | None:
    """Radios; None if that cannot be seen."""
    folder = root / "sys/class/rfkill"
    if not folder.is_dir():
        return None
    return tuple(Radio(text(each / "type") or each.name, number(each / "state") == 1) for each in inside(folder, "*"))


def devices(root: Path) -> tuple[AudioDevice, ...] | None:
    """Audio devices, and at what those run that are open; None if that cannot be seen."""
    folder = root / "proc/asound"
    if not folder.is_dir():
        return None
    found = []
    for card in inside(folder, "card[0-9]*"):
        name = text(card / "id") or card.name
        opened = [pairs(each) for each in inside(card, "pcm*/sub*/hw_params") if text(each) not in (None, "closed")]
        if not opened:
            found.append(AudioDevice(name))
        for told in opened:
            period, buffer, rate, channels = (
                as_number(told.get(part)) or 0 for part in ("period_size", "buffer_size", "rate", "channels")
            )
            found.append(AudioDevice(name, period, buffer, rate, channels))
    return tuple(found)


def interrupts(first: Sample, last: Sample) -> tuple[Interrupts, ...] | None:
    """Who interrupted which core, and how often, in the time between; the most first. None if that cannot be seen."""
    if last.interrupts is None or first.interrupts is None:
        return None
    found = []
    for name, after in last.interrupts.items():
        before = first.interrupts.get(name, (0,) * len(after))
        by_core = tuple(max(b - a, 0) for a, b in zip(before, after, strict=False))
        if sum(by_core):
            found.append(Interrupts(name, by_core))
    return tuple(sorted(found, key=lambda each: (-sum(each.by_core), each.name)))


def is_virtual(root: Path) -> bool | None:
    """Whether this computer is a virtual one; None if that cannot be seen."""
    told = text(root / "proc/cpuinfo")
    return (
        None if told is None else any("hypervisor" in line.split() for line in told.splitlines() if "flags" in line[:6])
    )


def stolen(first: Sample, last: Sample) -> float | None:
    """Which share of its time a virtual computer was not given; None if that cannot be seen."""
    if first.ticks is None or last.ticks is None:
        return None
    spent = [b - a for a, b in zip(first.ticks, last.ticks, strict=False)]
    return spent[7] / max(sum(spent[:8]), 1) if len(spent) > 7 else None


def distribution(root: Path) -> str:
    """Which distribution it is, by its identifier."""
    return pairs(root / "etc/os-release").get("ID", "")
