"""What holds up the engine of a host, in sentences: plugins that sleep, busy waiting, what is taken from outside."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..units import about, count, gigahertz, milliseconds, percent
from ..watching.asleep import sleepers
from ..watching.blocks import Seen
from ..watching.busy_waiting import taken_away
from ..watching.core_clocks import clock
from ..watching.outside import taken_outside
from ..watching.records import A_DEVICE, A_FILE, A_LOCK, A_PAGE, A_TIME, SOMETHING
from ..watching.shares import COMPUTES, Part

# Who sleeps in the engine for so much of the time is worth a word; so many at most.
SLEEPS, SHOWN_SLEEPERS = 0.005, 3
SLEPT_FOR = {
    SOMETHING: "in the system", A_TIME: "until a time of its own", A_LOCK: "for another thread, or a lock",
    A_FILE: "for something that it reads or writes", A_DEVICE: "for another program, or a device",
    A_PAGE: "until memory was read from the disk",
}  # fmt: skip
# So much of the engine's time that was taken from outside is worth a word.
OUTSIDE = 0.02
# A clock below so much of what cores may run at is worth a word.
SLOW = 0.85
# Busy waiting of so much of a core is worth a word; and a core that was taken away for so long (ns) at once.
BUSY, TAKEN_AWAY = 0.02, 10_000_000


# Reasons for late blocks that a running host and a rehearsal share.
NO_CORE, GAVE_WAY = "began late, since no core was to be had in time", "had to give way to other threads"
OF_DISK = "waited for memory that was read from the disk"
# Who takes a core away from outside.
NO_THREAD = "something that is no thread of this system (another guest of the machine, interrupts)"
COMPUTED_NOT = "without computing (a lock, a file, another program)"


def why_late_words(parts: Sequence[tuple[int, str]]) -> list[str]:
    """Why blocks were late, in a sentence: how many for which reason; nothing if none was."""
    whole = sum(number for number, _ in parts)
    if not whole:
        return []
    late = "a block was" if whole == 1 else f"{whole} blocks were"
    if whole in {number for number, _ in parts}:
        words = next(words for number, words in parts if number)
        return [f"Why {late} late: {'it' if whole == 1 else 'they'} {words}."]
    return [f"Why {late} late: {'; '.join(f'{number} {words}' for number, words in parts if number)}."]


def asleep_words(of: Seen, called: Callable[[int], str]) -> list[str]:
    """Which plugins sleep in the engine's threads, and for what. `called` gives the name of an owner of code."""
    return [
        f"{called(each.owner)} sleeps in the engine's threads, for about "
        f"{percent(each.part)} of the time: {SLEPT_FOR[each.why]}."
        for each in sleepers(of)[:SHOWN_SLEEPERS] if each.part >= SLEEPS
    ]  # fmt: skip


def outside_words(of: Seen) -> list[str]:
    """What was taken from its engine on its cores by nothing that this system schedules."""
    taken = taken_outside(of)
    if taken is None or taken < OUTSIDE:
        return []
    return [
        f"At least {percent(taken)} of the time in which its engine had a core was taken away by something that is no "
        "thread of this system: another guest of the machine it runs on, or interrupts (see Machine)."
    ]


def clock_words(of: Seen) -> list[str]:
    """At which clock its engine computed, where that was slow, or slower than before."""
    found = clock(of)
    if found is None:
        return []
    now, said = gigahertz(found.now), []
    of_most = f", of {gigahertz(found.most)} that they may have" if found.now < SLOW * found.most else ""
    if found.hot:
        often = f"{found.hot} time{'s' if found.hot > 1 else ''}"
        said.append(f"Its cores were too hot and were slowed down {often}: they ran at {now}{of_most}.")
    elif of_most:
        said.append(f"Its cores ran at {now}{of_most} (see Machine).")
    if found.before:
        said.append(
            f"Until {about(found.ago)} ago they ran at {gigahertz(found.before)}: the same work takes up to "
            f"{found.before / found.now:.1f} times as long since."
        )
    return said


def waiting_words(of: Seen, parts: Sequence[Part]) -> list[str]:
    """What its engine's threads spend on looking whether there is work, where they do not sleep until there is some."""
    waiting = sum(part.waiting for part in parts if part.role in COMPUTES)
    if waiting < BUSY:
        return []
    one = len(of.awake) == 1
    never = f"{count(len(of.awake), 'thread')} of its engine never {'sleeps and takes' if one else 'sleep and take'}"
    said = f"{never if of.awake else 'Its engine takes'} {percent(waiting)} of one core in busy waiting, looking again "
    said = f"{said}and again whether there is work: no load, though a meter of CPU use shows it."
    gaps = (taken_away(of.runs[k]) for k in of.awake if of.recording.threads[k].is_real_time)
    taken = [gap for begin, end in gaps for gap in (end - begin).tolist() if gap > TAKEN_AWAY]
    if not taken:
        return [said]
    longest, often = milliseconds(max(taken) / 1e9), f"{len(taken)} time{'s' if len(taken) > 1 else ''}"
    return [
        said,
        f"The system took the core from {'it' if one else 'them'} {often}, for {longest} at most: of each second it "
        "keeps a part from threads in real time that never sleep (the real-time brake, see Machine). Let the host "
        "sleep while it waits, if it can.",
    ]
