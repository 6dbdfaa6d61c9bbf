"""What was found out about the computer, in findings: what is seen, why it matters for audio blocks, what to do."""

from __future__ import annotations

from collections.abc import Callable

from ..computer.facts import Busy, Facts
from ..load.memory import Memory, fits
from ..units import agreeing, count, microseconds, percent, size
from .core_clocks import against_measured, hot, how_fast, how_much_power, how_set, preferred
from .cores import core_list
from .finding import GRADES, Finding, Grade, maybe_virtual
from .memory import kept_words

# Resting states that take longer to leave than this are felt in short blocks (seconds).
LONG_REST = 100e-6
TRIED_ON = "What it would do to a session: Computer › The host kept on …, in the menu."
FREE, AVAILABLE = 0.10, 0.10
LOCKED = 512 << 20
MUCH_CPU, SOME_CPU, MANY_WAKES = 0.30, 0.05, 1000.0
STOLEN = 0.001
NETWORK = ("eth", "enp", "eno", "wlan", "wlp", "iwl", "ath", "virtio", "nvme", "amdgpu", "i915", "nvidia")
AUDIO = ("snd", "xhci", "ehci", "firewire", "hda")
MEMORY, REAL_TIME = "Memory", "Real time for this user"
NOT_LOCKED = "Memory that is not locked may be taken away while it plays."
NOT_THERE = "What is not in memory is read from the disk while a block waits: that takes longer than any block lasts."
PACKED = "What has been packed away in memory is unpacked while a block waits: microseconds for each page."
ALONE = "Without it the audio threads take their turn among all other programs, and any of them can make a block late."
SERVED = (
    "A service gives it to one thread of each client of a sound server. The threads that compute tracks beside that "
    "one ask for themselves, and take their turn among all other programs."
)
REMOTE = ("nfs", "nfs4", "cifs", "fuse.sshfs", "9p")


def findings(of: Facts, kept: Memory | None = None, measured: float = 0.0) -> list[Finding]:
    """All findings, what matters first; with what the plugins of the open session keep in memory, if one is open, and
    at which clock they were measured: what a known chain of steps took then (seconds; 0: not known)."""
    found = [each for judge in JUDGES if (each := judge(of)) is not None]
    if of.chain > 0 and measured > 0:
        found.append(against_measured(of.chain / measured))
    if kept is not None and kept.kinds:
        with_session = {MEMORY: _memory_with_session, REAL_TIME: _limits_with_session}
        found = [with_session[each.name](each, of, kept) if each.name in with_session else each for each in found]
    return sorted(found, key=lambda each: GRADES.index(each.grade))


def headline(found: list[Finding]) -> str:
    """How many findings matter."""
    matter = sum(each.grade == "matters" for each in found)
    if matter:
        return f"{count(matter, 'finding')} {'matters' if matter == 1 else 'matter'} for audio on this computer."
    return "Nothing that was seen here stands in the way of audio."


def advice(found: list[Finding]) -> str:
    """The findings that matter by name, and how many things could not be seen."""
    named = ", ".join(each.name for each in found if each.grade == "matters")
    unseen = sum(each.grade == "unseen" for each in found)
    said = f"{named}." if named else "What matters has been looked at."
    return f"{said} {count(unseen, 'thing')} cannot be seen here." if unseen else said


def state(found: list[Finding]) -> str:
    """The same in a word or two."""
    matter = sum(each.grade == "matters" for each in found)
    return count(matter, "finding") if matter else "in order"


def _shared_cores(of: Facts) -> Finding | None:
    first = [core for core in of.cores if core.is_first]
    if len(first) == len(of.cores):
        return None
    return Finding(
        "Cores in pairs", "note", f"{len(of.cores)} cores are threads of {count(len(first), 'real one')}.",
        "Two of a pair share their units: a plugin beside another on the same core takes longer, and Linux puts "
        "threads in real time wherever there is room, on the other half of a busy core as well. Started so, a host "
        f"stays on one thread of each: good for long chains, bad where there is a lot of work. {TRIED_ON}",
        f"taskset -c {core_list(first)} NAME-OF-YOUR-HOST",
    )  # fmt: skip


def _unequal_cores(of: Facts) -> Finding | None:
    fast = [core for core in of.cores if not core.is_slow]
    if len(fast) == len(of.cores):
        return None
    first = [core for core in fast if core.is_first]
    one = "" if len(first) == len(fast) else f" One thread of each are {core_list(first)}."
    return Finding(
        "Unequal cores", "note",
        f"Of {count(len(of.cores), 'core')} {agreeing(len(of.cores) - len(fast), 'is', 'are')} slower than the others.",
        "A track that lands on a slow core takes longer there, and so does all that waits for it. Started so, a host "
        f"stays on the fast ones.{one} {TRIED_ON}",
        f"taskset -c {core_list(fast)} NAME-OF-YOUR-HOST",
    )  # fmt: skip


def _apart(of: Facts) -> Finding | None:
    apart = [core for core in of.cores if core.number in of.apart]
    if not apart:
        return None
    listed = core_list(apart)
    which = f"Core {listed} is" if len(apart) == 1 else f"Cores {listed} are"
    return Finding(
        "Cores set apart", "note", f"{which} set apart: nothing runs there that was not put there.",
        "A host that is simply started does not use them, and what is said here of cores is without them. Started so, "
        "it has them to itself.",
        f"taskset -c {listed} NAME-OF-YOUR-HOST",
    )  # fmt: skip


def _rests(of: Facts) -> Finding:
    name = "How deep cores rest"
    if of.idle is None:
        return Finding(name, "unseen", "The resting states of the cores are not told." + maybe_virtual(of))
    usable = [state for state in of.idle if not state.is_off]
    deepest = max(usable, key=lambda state: state.latency, default=None)
    if deepest is None or deepest.latency <= LONG_REST:
        deep = f": {deepest.name} takes {microseconds(deepest.latency)} to leave" if deepest else ""
        return Finding(name, "well", f"No resting state takes long to leave{deep}.")
    return Finding(
        name, "note", f"The deepest resting state, {deepest.name}, takes {microseconds(deepest.latency)} to leave.",
        "A block that finds its core asleep begins so much later. At 64 samples that is "
        f"{percent(deepest.latency / (64 / 48000))} of the deadline.",
        "sudo cpupower idle-set -D 50",
    )  # fmt: skip


def _preemption(of: Facts) -> Finding:
    name, kernel = "How soon the kernel lets go", of.kernel
    release = f"Kernel {kernel.release}" if kernel.release else "The kernel"
    if kernel.preemption is None:
        return Finding(
            name, "unseen", f"{release} does not tell how it may be interrupted.",
            "Without preempt=full on its command line it may hold a core for milliseconds.", "",
            _boot(of, "preempt=full"),
        )  # fmt: skip
    if kernel.preemption in ("rt", "full"):
        kind = "in real time" if kernel.preemption == "rt" else "nearly everywhere"
        return Finding(name, "well", f"{release} can be interrupted {kind}.")
    if kernel.preemption == "lazy":
        return Finding(
            name, "note", f"{release} lets other programs finish their turn before it is interrupted (preempt=lazy).",
            "Threads in real time go first all the same; preempt=full is a little sooner.", "",
            _boot(of, "preempt=full"),
        )  # fmt: skip
    return Finding(
        name, "matters", f"{release} can be interrupted in few places only (preempt={kernel.preemption}).",
        "While it works for another program it may hold a core for milliseconds; the audio thread waits.", "",
        _boot(of, "preempt=full threadirqs"),
    )  # fmt: skip


def _boot(of: Facts, words: str) -> str:
    """How words get onto the kernel's command line."""
    if of.distribution in ("fedora", "rhel", "centos", "rocky", "almalinux"):
        return f'sudo grubby --update-kernel=ALL --args="{words}"'
    if of.distribution in ("debian", "ubuntu", "linuxmint", "pop"):
        return (
            f"sudo sed -i 's/^GRUB_CMDLINE_LINUX_DEFAULT=\"/&{words} /' /etc/default/grub && sudo update-grub"
        )  # fmt: skip
    return f"add  {words}  to the kernel's command line in your boot loader"


def _real_time(of: Facts) -> Finding:
    name, limits = REAL_TIME, of.limits
    if limits.is_given is None and limits.priority is None:
        return Finding(name, "unseen", "Whether this user may run threads in real time is not told.", ALONE)
    given = limits.is_given if limits.is_given is not None else bool(limits.priority)
    why = SERVED if limits.by_service and not given else ALONE
    locked = limits.locked
    short = locked is not None and 0 <= locked < LOCKED
    priority = f", priority up to {limits.priority}" if limits.priority else ""
    if given and not short:
        return Finding(name, "well", f"A thread that asks for real time gets it{priority}.")
    seen = (
        f"A thread that asks for real time gets it{priority}"
        if given
        else "A thread that asks for real time is refused"
    )
    if short:
        assert locked is not None
        seen += f"; at most {locked >> 20} MB may be locked in memory"
        why = NOT_LOCKED if given else f"{why} {NOT_LOCKED}"
    if limits.granted_by:
        seen += f". {limits.granted_by} grants it to some groups, you belong to {', '.join(limits.groups) or 'none'}"
    grade: Grade = "note" if given else "matters"
    return Finding(name, grade, f"{seen}.", why, "", _grant(of))


def _grant(of: Facts) -> str:
    """How this user gets real time for good; it counts from the next login on."""
    if of.distribution in ("arch", "manjaro", "endeavouros"):
        return "sudo pacman -S realtime-privileges && sudo usermod -aG realtime $USER"
    lines = "@audio - rtprio 95\\n@audio - memlock unlimited\\n"
    return (
        f"printf '{lines}' | sudo tee /etc/security/limits.d/60-audio.conf && sudo usermod -aG audio $USER"
        "    (then log in again)"
    )


def _real_time_share(of: Facts) -> Finding | None:
    share = of.kernel.real_time_share
    if share is None:
        return None
    if share >= 0.95:
        return Finding("The real-time brake", "well", f"Threads in real time may take {percent(share)} of the time.")
    return Finding(
        "The real-time brake", "matters", f"Threads in real time may take only {percent(share)} of the time.",
        "What is above that is taken away from them, for the rest of each second: blocks are late at loads that should "
        "fit.", "sudo sysctl kernel.sched_rt_runtime_us=950000",
        "echo kernel.sched_rt_runtime_us=950000 | sudo tee /etc/sysctl.d/60-audio.conf",
    )  # fmt: skip


def _time_source(of: Facts) -> Finding | None:
    source = of.kernel.clock_source
    if source is None:
        return None
    if source in ("hpet", "acpi_pm", "jiffies"):
        return Finding(
            "The kernel's clock", "matters", f"The kernel reads the time from {source}.",
            "Each reading takes about a microsecond in place of a few hundredths; hosts and plugins read it often. "
            "The kernel falls back to it when it takes the processor's own counter for unreliable: its log says why.",
            "sudo dmesg | grep -i -e tsc -e clocksource",
        )  # fmt: skip
    return Finding("The kernel's clock", "well", f"The kernel reads the time from {source}.")


def _watching(of: Facts) -> Finding | None:
    level = of.kernel.watching
    if level is None or level <= 2:
        return None
    return Finding(
        "Watching hosts", "note", f"kernel.perf_event_paranoid is {level}.",
        "Watch needs 2 or less to see which plugin takes how much in a running host.",
        "sudo sysctl kernel.perf_event_paranoid=2",
        "echo kernel.perf_event_paranoid=2 | sudo tee /etc/sysctl.d/60-watching.conf",
    )  # fmt: skip


def _limits_with_session(found: Finding, of: Facts, kept: Memory) -> Finding:
    """What is seen of the limits, and whether a host may lock what the plugins of the open session keep."""
    locked = of.limits.locked
    if locked is None or not 0 <= locked < kept.bytes:
        return found
    seen = f"{found.seen} The plugins of the open session keep {kept_words(kept)}"
    if found.grade != "well":
        return found._replace(seen=f"{seen}.")
    seen += f", of which {size(locked)} may be locked in memory."
    return found._replace(grade="note", seen=seen, why=NOT_LOCKED, lasting=_grant(of))


def _memory_with_session(found: Finding, of: Facts, kept: Memory) -> Finding:
    """What is seen of the memory, and whether it has room for the plugins of the open session."""
    seen = f"{found.seen} The plugins of the open session keep {kept_words(kept)}."
    if fits(kept, of.memory.total or 0):
        return found._replace(seen=seen)
    why = f"{NOT_THERE} Tracks can be frozen and their plugins unloaded: see Balance."
    return found._replace(grade="matters", seen=seen, why=why)


def _memory(of: Facts) -> Finding:
    memory, name, why = of.memory, MEMORY, NOT_THERE
    if memory.total is None or memory.available is None:
        return Finding(name, "unseen", "How much memory there is is not told.", why)
    seen = f"{memory.available / 2**30:.1f} of {memory.total / 2**30:.1f} GB are available"
    used = memory.swap_used or 0
    if memory.swapping is not None and memory.swapping > 0:
        seen += f", {memory.swapping:.0f} pages a second are swapped"
        if memory.is_packed:
            return Finding(name, "note", f"{seen}, into memory alone (zram).", PACKED)
        remedy = "sudo sysctl vm.swappiness=10"
        lasting = "echo vm.swappiness=10 | sudo tee /etc/sysctl.d/60-swap.conf"
        return Finding(name, "matters", f"{seen}.", why, remedy, lasting)
    if memory.available < AVAILABLE * memory.total or (memory.pressure or 0) > 0.01:
        waiting = f", programs waited for memory {percent(memory.pressure)} of the time" if memory.pressure else ""
        return Finding(name, "matters", f"{seen}{waiting}.", why + " Close what is not needed beside the host.")
    return Finding(
        name, "well", f"{seen}" + (f", {used / 2**30:.1f} GB are swapped out." if used else ", none is swapped out.")
    )


def _disks(of: Facts) -> Finding | None:
    if not of.disks:
        return None
    full = [disk for disk in of.disks if disk.total and disk.free < FREE * disk.total]
    seen = "; ".join(f"{d.path}: {d.free / 1e9:.0f} of {d.total / 1e9:.0f} GB free" for d in full or of.disks)
    if full:
        return Finding(
            "Room on the disk", "matters", f"{seen}.",
            "A disk that is nearly full writes slowly, in bursts, and a recording may end in the middle. A tenth "
            "should be free.",
        )  # fmt: skip
    remote = [disk for disk in of.disks if disk.system in REMOTE]
    turning = [disk for disk in of.disks if disk.turns and not of.is_virtual]
    if remote:
        return Finding(
            "The disk", "note", f"{seen}; {remote[0].path} lies on a network ({remote[0].system}).",
            "Audio that is read over a network comes late now and then.",
        )  # fmt: skip
    if turning:
        return Finding(
            "The disk", "note", f"{seen}; {turning[0].path} lies on a disk with turning platters.",
            "Reading many tracks at once makes it seek; frozen and bounced tracks are read, too.",
        )  # fmt: skip
    return Finding("Room on the disk", "well", f"{seen}.")


def _power(of: Facts) -> Finding | None:
    if of.supplies is None:
        return Finding("Power", "unseen", "Whether it runs on a battery is not told.")
    if any(supply.kind == "Battery" and supply.is_on for supply in of.supplies):
        return Finding(
            "Power", "matters", "It runs on its battery.",
            "On battery the firmware lowers clocks and power limits, whatever the governor says.",
        )  # fmt: skip
    has_battery = any(supply.kind == "Battery" for supply in of.supplies)
    return Finding("Power", "well", "It runs on mains power.") if has_battery else None


def _radios(of: Facts) -> Finding | None:
    on = sorted({radio.kind for radio in of.radios or () if radio.is_on})
    if not on:
        return None
    return Finding(
        "Radios", "note", f"On: {', '.join(on)}.",
        "Some drivers hold a core for a millisecond while they scan for networks. If blocks are late at even "
        "distances, try without.", f"rfkill block {' '.join(on)}",
    )  # fmt: skip


def _virtual(of: Facts) -> Finding | None:
    if of.is_virtual is None:
        return Finding("Virtual or real", "unseen", "Whether this computer is a virtual one is not told.")
    if not of.is_virtual:
        return None
    stolen = of.stolen or 0.0
    seen = f"This computer is a virtual one; {stolen * 100:.1f} % of its time was taken away while it was watched."
    return Finding(
        "A shared computer", "matters" if stolen > STOLEN else "note", seen,
        "Others take its cores away for milliseconds at a time, whatever its own settings are. Measured figures are "
        "the plugins' own; rehearsals show what the computer adds.",
    )  # fmt: skip


def _devices(of: Facts) -> Finding:
    if of.devices is None or not of.devices:
        return Finding("Audio devices", "unseen", "No audio device is told of.")
    opened = [d for d in of.devices if d.rate]
    if not opened:
        names = ", ".join(device.name for device in of.devices)
        return Finding("Audio devices", "well", f"{names}; none is open just now.")
    seen = "; ".join(
        f"{d.name}: {d.period} frames a period, {d.rate / 1000:g} kHz, {d.channels} channels" for d in opened
    )
    return Finding("Audio devices", "well", f"{seen}.")


def _interrupts(of: Facts) -> Finding | None:
    """Whether the core that serves the audio device also serves a busy other one."""
    if of.interrupts is None or not of.watched:
        return None
    audio = [each for each in of.interrupts if any(word in each.name.lower() for word in AUDIO)]
    for device in audio:
        core = max(range(len(device.by_core)), key=lambda k: device.by_core[k])
        beside = [each for each in of.interrupts if any(w in each.name.lower() for w in NETWORK)
                  and each.by_core[core] > 100 * of.watched and each is not device]  # fmt: skip
        if beside:
            rate = beside[0].by_core[core] / of.watched
            return Finding(
                "Interrupts", "note",
                f"Core {core} serves {device.name} and, {rate:.0f} times a second, {beside[0].name}.",
                "While the one is served the other waits. Threaded interrupts let the audio device go first.", "",
                _boot(of, "threadirqs"),
            )  # fmt: skip
    return None


def _background(of: Facts) -> Finding | None:
    if not of.watched:
        return None
    name, seconds = "Other programs", f"{of.watched:.0f} s"
    hungry = [each for each in of.busy if each.cpu >= SOME_CPU]
    restless = [each for each in of.busy if each.wakes >= MANY_WAKES and each not in hungry]
    total = sum(each.cpu for each in of.busy)
    if not hungry and not restless:
        return Finding(name, "well", f"In {seconds} no other program took more than {percent(SOME_CPU)} of a core.")
    seen = "; ".join(_busy(each) for each in (hungry + restless)[:4])
    return Finding(
        name, "matters" if total >= MUCH_CPU else "note", f"In {seconds}: {seen}.",
        "What they compute is not there for the host, and they push what plugins keep out of the caches. Pause what "
        "can wait: backups, updates, indexing, file synchronisation, browsers.",
    )  # fmt: skip


def _busy(of: Busy) -> str:
    with_more = " with what it starts and ends again" if 2 * of.started > of.cpu else ""
    said = f"{of.name}{with_more} {percent(of.cpu)} of a core"
    if of.wakes >= MANY_WAKES:
        said += f", woke up {of.wakes:.0f} times a second"
    if of.disk >= 1e6:
        said += f", {of.disk / 1e6:.0f} MB a second from and to the disk"
    return said


JUDGES: tuple[Callable[[Facts], Finding | None], ...] = (
    how_set, how_fast, preferred, how_much_power, hot, _power, _real_time, _preemption, _real_time_share, _rests,
    _shared_cores, _unequal_cores, _apart, _virtual, _memory, _disks, _background, _interrupts, _radios, _devices,
    _time_source, _watching,
)  # fmt: skip
