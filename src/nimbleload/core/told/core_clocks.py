"""How fast the cores run, and what slows them down, in findings."""

from __future__ import annotations

from ..computer.facts import Facts
from ..units import count
from .finding import Finding, maybe_virtual


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
        seen += f" Just now they run at {min(clocks) / 1e6:.1f} to {max(clocks) / 1e6:.1f} of {most / 1e6:.1f} GHz."
    if governors == ["performance"]:
        return Finding(name, "well", seen)
    path = "/sys/devices/system/cpu/cpu*/cpufreq/scaling_governor"
    return Finding(
        name, "matters", seen, why, f"echo performance | sudo tee {path}",
        f"echo 'w {path} - - - - performance' | sudo tee /etc/tmpfiles.d/audio-clock.conf",
    )  # fmt: skip


def hot(of: Facts) -> Finding | None:
    """Whether cores are slowed down for heat."""
    counted = [core.throttled for core in of.cores if core.throttled is not None]
    if not counted:
        return None
    if not sum(counted):
        return Finding("Heat", "well", "No core has slowed down for heat since the computer started.")
    return Finding(
        "Heat", "matters", f"Cores have slowed down {max(counted)} times for heat since the computer started.",
        "A core that is too hot halves its clock for a while, and every block with it. Dust, a blocked fan or a soft "
        "surface under a laptop are the usual causes.",
    )  # fmt: skip
