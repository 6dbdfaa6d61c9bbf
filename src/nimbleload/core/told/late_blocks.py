"""Why blocks of a running host were late, in words."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..units import gigahertz, percent
from ..watching.late import Late
from .held_up import COMPUTED_NOT, GAVE_WAY, NO_CORE, NO_THREAD, OF_DISK, SLEPT_FOR, why_late_words

SLEPT_ON = "though no other thread had their core (a device or timer that comes late, a plugin that waits)"
OTHERS_WORK = "power saving, work of others on the same core, a virtual machine"
SLOWED = f"cores were slowed down or taken away meanwhile ({OTHERS_WORK})"


def late_parts(
    found: Late, called: Callable[[int], str], threads: Sequence[str], slowed: str = SLOWED
) -> list[tuple[int, str]]:
    """How many blocks were late for which reason. `called` gives the name of an owner of code, `threads` are those of
    the recording by name; `slowed` is why all in them would take longer alike."""
    longer = f"took longer by {'itself' if found.longer == 1 else 'themselves'}"
    if found.clocks is not None:
        then, otherwise = map(gigahertz, found.clocks)
        longer += f" at {then}, where others were computed at {otherwise}"
    if found.alike:
        longer += ", and all in them alike" + ("" if found.clocks is not None else f": {slowed}")
    elif found.asks is not None:
        longer += f", {percent(found.part)} of it in the system, for new memory that {called(found.asks)} asks for"
    elif found.owner is not None:
        longer += f", {percent(found.part)} of it in {called(found.owner)}"
    elif found.longer:
        longer += ", by whom is not clear from so few looks"
    beside = f", while the thread {threads[found.meanwhile]} computed" if found.meanwhile is not None else ""
    read = f", mostly by {called(found.reader)}" if found.reader is not None else ""
    slept, waited = SLEPT_ON, COMPUTED_NOT
    if found.sleeper is not None:
        asleep = f"{called(found.sleeper.owner)} slept {SLEPT_FOR[found.sleeper.why]}"
        slept, waited = f"since {asleep}", f"without computing, while {asleep}"
    return [
        (found.woken, NO_CORE),
        (found.slept, f"began late, {slept}{beside}"),
        (found.read, f"{OF_DISK}{read}"),
        (found.outside, f"had a core taken away by {NO_THREAD}"),
        (found.pushed, GAVE_WAY),
        (found.waited, f"waited {waited}{beside}"),
        (found.longer, longer),
        (found.after, "came right after a late one"),
    ]


def late_words(
    found: Late | None, called: Callable[[int], str], threads: Sequence[str], slowed: str = SLOWED
) -> list[str]:
    """The same in a sentence; nothing if none was late."""
    return why_late_words(late_parts(found, called, threads, slowed)) if found is not None else []
