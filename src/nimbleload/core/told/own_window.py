"""What is said of a plugin's own window, which is no load of the session's but takes its part of the computer."""

from __future__ import annotations

from ..units import percent

# What is so little that an interruption makes it, in cores and in bytes.
LITTLE_CORES, LITTLE_BYTES = 0.005, 1 << 20


def takes(cores: float, memory: float) -> str:
    """What an open window takes beside the plugin's own work: CPU time in cores, memory in bytes."""
    cpu = "hardly any CPU" if cores < LITTLE_CORES else f"{percent(cores)} of a core"
    return f"{cpu} and {memory / (1 << 20):.0f} MB" if memory >= LITTLE_BYTES else cpu


def is_open(cores: float | None = None, memory: float = 0.0) -> str:
    """The sentence while a window is open; what it takes is not known in its first seconds."""
    beside = f" It takes {takes(cores, memory)}, beside what the plugin computes." if cores is not None else ""
    return f"Its own window is open.{beside} Closing it takes over what was set."


def closed(name: str, changed: bool, cores: float | None = None, memory: float = 0.0) -> str:
    """The sentence when the window of a plugin is closed; what it took is not known if it was open too short a time."""
    what = f"What was set in {name}'s window is in the session now."
    if not changed:
        what = f"Nothing was changed in {name}'s window."
    return what if cores is None else f"{what} While open it took {takes(cores, memory)}."
