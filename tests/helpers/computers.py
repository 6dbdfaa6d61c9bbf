"""Computers of our own making: the files that the kernel of each would show, below one folder."""

from __future__ import annotations

from pathlib import Path

CPU = "sys/devices/system/cpu"
VERSION = "Linux version {} (builder@host) (gcc 12) #1 SMP {} Debian"


def put(root: Path, path: str, content: object) -> None:
    file = root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(f"{content}\n")


def plain(root: Path, cores: int = 4) -> Path:
    """What every Linux computer shows, whatever its settings: four equal cores that are really four."""
    put(root, f"{CPU}/online", f"0-{cores - 1}")
    put(root, "proc/version", VERSION.format("6.12.1", "PREEMPT_DYNAMIC"))
    put(root, "proc/cmdline", "root=/dev/sda1 quiet preempt=full threadirqs")
    put(root, "proc/cpuinfo", "processor : 0\nflags : fpu sse avx\n")
    put(
        root,
        "proc/meminfo",
        "MemTotal: 32000000 kB\nMemAvailable: 20000000 kB\nSwapTotal: 8000000 kB\nSwapFree: 8000000 kB",
    )
    put(root, "proc/vmstat", "pswpin 0\npswpout 0")
    put(root, "proc/pressure/memory", "some avg10=0.00 avg60=0.00 avg300=0.00 total=0")
    put(root, "proc/stat", "cpu 100 0 100 1000 0 0 0 0 0 0")
    put(root, "proc/sys/vm/swappiness", 60)
    put(root, "proc/sys/kernel/sched_rt_runtime_us", 950000)
    put(root, "proc/sys/kernel/sched_rt_period_us", 1000000)
    put(root, "proc/sys/kernel/perf_event_paranoid", 2)
    put(root, "proc/self/limits", limits(95, "unlimited"))
    put(root, "proc/self/status", "Name: x\nGroups: 29 1000")
    put(root, "etc/group", "audio:x:29:me\nme:x:1000:\nroot:x:0:")
    put(root, "etc/os-release", 'NAME="Debian"\nID=debian')
    put(root, "sys/devices/system/clocksource/clocksource0/current_clocksource", "tsc")
    put(root, "sys/class/power_supply/AC/type", "Mains")
    put(root, "sys/class/power_supply/AC/online", 1)
    put(root, "proc/asound/card0/id", "PCH")
    put(root, "proc/asound/card0/pcm0p/sub0/hw_params", "closed")
    for core in range(cores):
        folder = f"{CPU}/cpu{core}"
        for name, value in (("scaling_governor", "performance"), ("scaling_cur_freq", 3600000),
                            ("cpuinfo_min_freq", 800000), ("cpuinfo_max_freq", 4000000),
                            ("scaling_max_freq", 4000000)):  # fmt: skip
            put(root, f"{folder}/cpufreq/{name}", value)
        put(root, f"{folder}/topology/thread_siblings_list", core)
        put(root, f"{folder}/thermal_throttle/core_throttle_count", 0)
    for number, (name, latency) in enumerate((("POLL", 0), ("C1", 2), ("C6", 60))):
        put(root, f"{CPU}/cpu0/cpuidle/state{number}/name", name)
        put(root, f"{CPU}/cpu0/cpuidle/state{number}/latency", latency)
        put(root, f"{CPU}/cpu0/cpuidle/state{number}/disable", 0)
    return root


def limits(priority: object, locked: object) -> str:
    return (
        "Limit                     Soft Limit           Hard Limit           Units\n"
        f"Max locked memory         {locked:<20} {locked:<20} bytes\n"
        f"Max realtime priority     {priority:<20} {priority:<20}\n"
    )


def laptop(root: Path) -> Path:
    """On its battery, with a governor that saves power, radios on, hot, and pairs of cores."""
    plain(root)
    for core in range(4):
        put(root, f"{CPU}/cpu{core}/cpufreq/scaling_governor", "powersave")
        put(root, f"{CPU}/cpu{core}/cpufreq/energy_performance_preference", "balance_power")
        put(root, f"{CPU}/cpu{core}/cpufreq/scaling_cur_freq", 800000)
        put(root, f"{CPU}/cpu{core}/topology/thread_siblings_list", "0,2" if core % 2 == 0 else "1,3")
        put(root, f"{CPU}/cpu{core}/thermal_throttle/core_throttle_count", 17)
    put(root, f"{CPU}/cpu0/cpuidle/state3/name", "C10")
    put(root, f"{CPU}/cpu0/cpuidle/state3/latency", 890)
    for place, (name, watts, seconds) in enumerate((("long_term", 15, 28), ("short_term", 51, 0.00244))):
        rapl = f"sys/class/powercap/intel-rapl:0/constraint_{place}"
        put(root, f"{rapl}_name", name)
        put(root, f"{rapl}_power_limit_uw", watts * 1_000_000)
        put(root, f"{rapl}_time_window_us", round(seconds * 1e6))
    put(root, "sys/firmware/acpi/platform_profile", "balanced")
    put(root, "sys/firmware/acpi/platform_profile_choices", "low-power balanced performance")
    put(root, "sys/class/thermal/thermal_zone0/type", "acpitz")
    put(root, "sys/class/thermal/thermal_zone0/temp", 99000)
    put(root, "sys/class/thermal/thermal_zone3/type", "x86_pkg_temp")
    put(root, "sys/class/thermal/thermal_zone3/temp", 93000)
    put(root, "sys/class/power_supply/AC/online", 0)
    put(root, "sys/class/power_supply/BAT0/type", "Battery")
    put(root, "sys/class/power_supply/BAT0/status", "Discharging")
    for number, kind in enumerate(("wlan", "bluetooth")):
        put(root, f"sys/class/rfkill/rfkill{number}/type", kind)
        put(root, f"sys/class/rfkill/rfkill{number}/state", 1 - number)
    return root


def virtual(root: Path) -> Path:
    """A virtual computer: no clocks, no resting states, and time that is taken away."""
    plain(root)
    for core in range(4):
        for file in (root / f"{CPU}/cpu{core}/cpufreq").iterdir():
            file.unlink()
    for file in sorted((root / f"{CPU}/cpu0/cpuidle").rglob("*"), reverse=True):
        file.unlink() if file.is_file() else file.rmdir()
    (root / f"{CPU}/cpu0/cpuidle").rmdir()
    put(root, "proc/cpuinfo", "processor : 0\nflags : fpu sse hypervisor avx\n")
    return root


def old(root: Path) -> Path:
    """An old kernel that is not to be interrupted, on a slow clock, for a user without real time."""
    plain(root)
    put(root, "proc/version", VERSION.format("4.19.0-9-amd64", ""))
    put(root, "proc/cmdline", "root=/dev/sda1 quiet")
    put(root, "sys/devices/system/clocksource/clocksource0/current_clocksource", "hpet")
    put(root, "proc/self/limits", limits(0, 65536))
    put(root, "proc/self/status", "Name: x\nGroups: 1000")
    put(root, "etc/security/limits.d/95-audio.conf", "# rtprio\n@audio - rtprio 95")
    put(root, "proc/sys/kernel/sched_rt_runtime_us", 500000)
    put(root, "proc/sys/kernel/perf_event_paranoid", 4)
    return root


def hybrid(root: Path) -> Path:
    """Two fast cores in pairs, and four slow ones."""
    plain(root, 8)
    for core in range(8):
        put(root, f"{CPU}/cpu{core}/cpufreq/cpuinfo_max_freq", 5000000 if core < 4 else 3800000)
        put(
            root,
            f"{CPU}/cpu{core}/topology/thread_siblings_list",
            f"{core // 2 * 2}-{core // 2 * 2 + 1}" if core < 4 else core,
        )
    return root


def desktop(root: Path) -> Path:
    """Six fast cores in pairs, two of which may run a bit faster, and eight that the kernel lists as another kind."""
    plain(root, 20)
    for core in range(20):
        most = 4300000 if core > 11 else 5800000 if core in (4, 5, 6, 7) else 5500000
        put(root, f"{CPU}/cpu{core}/cpufreq/cpuinfo_max_freq", most)
        if core < 12:
            put(root, f"{CPU}/cpu{core}/topology/thread_siblings_list", f"{core // 2 * 2}-{core // 2 * 2 + 1}")
    put(root, "sys/devices/cpu_core/cpus", "0-11")
    put(root, "sys/devices/cpu_atom/cpus", "12-19")
    return root
