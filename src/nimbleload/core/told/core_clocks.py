"""How fast the cores run, and what slows them down, in findings."""

from __future__ import annotations

from ..computer.facts import Facts
from ..units import about, count, gigahertz
from .finding import Finding, maybe_virtual

# A core that may not run at so much of what it can is held down. A processor that may draw so many times more for a
# while does not keep up what it does then. So hot (°C) it will soon slow down.
HELD, MORE, HOT = 0.98, 1.15, 90.0
# A clock that differs by more is another one.
OTHER = 1.08
# Profiles of a firmware, as the kernel calls them.
FASTEST, SAVING = "performance", ("low-power", "quiet", "cool")


def how_set(of: Facts) -> Finding:
    """Who sets the clock of the cores."""
    name = "How the clock is set"
    governors = sorted({core.governor for core in of.cores if core.governor})
    why = (
        "A core that rests between blocks lowers its clock, and the next block begins on a slow one: it takes longer "
        "exactly when it has just been quiet."
    )
    if not governors:
        return Finding(name, "unseen", "No core tells who sets its clock." + maybe_virtual(of), why)
    preferences = sorted({core.preference for core in of.cores if core.preference})
    seen = f"Governor {' and '.join(governors)} on {count(len(of.cores), 'core')}"
    seen += f", energy preference {' and '.join(preferences)}." if preferences else "."
    clocks = [core.clock for core in of.cores if core.clock]
    most = max((core.most or 0 for core in of.cores), default=0)
    if clocks and most:
        least, fastest = (f"{each / 1e6:.1f}" for each in (min(clocks), max(clocks)))
        now = least if least == fastest else f"{least} to {fastest}"
        seen += f" Just now they run at {now} of {most / 1e6:.1f} GHz."
    if governors == ["performance"]:
        return Finding(name, "well", seen)
    path = "/sys/devices/system/cpu/cpu*/cpufreq/scaling_governor"
    return Finding(
        name, "matters", seen, why, f"echo performance | sudo tee {path}",
        f"echo 'w {path} - - - - performance' | sudo tee /etc/tmpfiles.d/audio-clock.conf",
    )  # fmt: skip


def how_fast(of: Facts) -> Finding | None:
    """Whether cores are held below the clock that they can run at."""
    name, known = "How fast cores may run", [(core.cap, core.most) for core in of.cores if core.cap and core.most]
    # Some kernels then tell a lower limit, too: lifting that would not help.
    if of.boost is False:
        return Finding(
            name, "note", "Cores may not run above their nominal clock: boost is switched off.",
            "Blocks take longer for it, but about as long each time, and the computer stays cooler and quieter. Some "
            "do this on purpose. Figures that were measured with boost are too low now.",
            "echo 0 | sudo tee /sys/devices/system/cpu/intel_pstate/no_turbo || "
            "echo 1 | sudo tee /sys/devices/system/cpu/cpufreq/boost",
        )  # fmt: skip
    held = [(cap, most) for cap, most in known if cap < HELD * most]
    if held:
        cap, most = min(held, key=lambda each: each[0] / each[1])
        caps = f"{gigahertz(1000 * cap)} where {gigahertz(1000 * most)} are possible"
        return Finding(
            name, "matters", f"{count(len(held), 'core')} may not run faster than {caps}: somebody has set it so.",
            "Every block takes longer for it, as much as the clock is lower. The firmware, or a program that saves "
            "power, may set it again.",
            "cd /sys/devices/system/cpu; for at in cpu*/cpufreq; do sudo tee $at/scaling_max_freq < "
            "$at/cpuinfo_max_freq; done",
        )  # fmt: skip
    return Finding(name, "well", "Nothing holds the cores' clock down.") if known else None


def preferred(of: Facts) -> Finding | None:
    """What the firmware is told to prefer."""
    name = "What the firmware prefers"
    if not of.profile:
        return None
    seen = f"Its power profile is {of.profile}"
    if of.profile == FASTEST or FASTEST not in of.profiles:
        others = f", of {', '.join(of.profiles)}" if of.profile != FASTEST and of.profiles else ""
        return Finding(name, "well", f"{seen}{others}.")
    return Finding(
        name, "matters" if of.profile in SAVING else "note", f"{seen}, of {', '.join(of.profiles)}.",
        "Other profiles let the processor draw less and the fans turn slower: it is slower after a while, whatever the "
        "governor says. The desktop's power menu has the same choice.",
        f"echo {FASTEST} | sudo tee /sys/firmware/acpi/platform_profile",
    )  # fmt: skip


def how_much_power(of: Facts) -> Finding | None:
    """Whether the processor may draw much for a while only."""
    limit = of.power_limit
    if limit is None:
        return None
    name, lasting = "How much power it may draw", f"{limit.lasting:.0f} W"
    if limit.short < MORE * limit.lasting:
        return Finding(name, "well", f"The processor may draw {lasting} for as long as it likes.")
    first = f"{limit.short:.0f} W for {about(limit.seconds)}"
    return Finding(
        name, "note", f"The processor may draw {first}, then {lasting}.",
        "What it does in a short while, a measurement as well, it may not keep up through a piece: clocks fall, and "
        "every block takes longer. By how much is found by holding a load for some minutes.",
    )  # fmt: skip


def hot(of: Facts) -> Finding | None:
    """Whether cores are slowed down for heat."""
    counted = [core.throttled for core in of.cores if core.throttled is not None]
    degrees = f" The processor is at {of.celsius:.0f} °C." if of.celsius is not None else ""
    if not sum(counted):
        seen = "No core has slowed down for heat since the computer started." if counted else ""
        is_hot = of.celsius is not None and of.celsius >= HOT
        return Finding("Heat", "note" if is_hot else "well", f"{seen}{degrees}".strip()) if seen or degrees else None
    since = f"{max(counted)} times for heat since the computer started"
    now = f", {of.heated} times in the last {of.watched:.0f} s" if of.heated else ""
    return Finding(
        "Heat", "matters", f"Cores have slowed down {since}{now}.{degrees}",
        "A core that is too hot halves its clock for a while, and every block with it. Dust, a blocked fan or a soft "
        "surface under a laptop are the usual causes.",
    )  # fmt: skip


def against_measured(slower: float) -> Finding:
    """How many times longer the same work takes now than when the open session's plugins were measured."""
    name, then = "The clock, against the figures", "when the plugins of the open session were measured"
    if 1 / OTHER < slower < OTHER:
        return Finding(name, "well", f"The cores compute as fast as {then}.")
    if slower > 1:
        return Finding(
            name, "matters", f"The same work takes {slower:.2f} times as long as {then}.",
            "So do the plugins: loads that are shown are too low by as much. A lower clock (see above), a battery, "
            "heat, or others on the same processor. What is measured again from now on is of this clock.",
        )  # fmt: skip
    return Finding(
        name, "note", f"The same work takes {slower:.2f} of the time that it took {then}.",
        "So do the plugins: loads that are shown are too high by as much. They were measured at a lower clock, on a "
        "battery perhaps, or beside others. Measure them again.",
    )  # fmt: skip
