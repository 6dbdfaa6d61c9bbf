"""What was seen of a running host, in sentences: how full its blocks are, who takes most, what stood in the way."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from ..load.seen import Taken
from ..survey import Compared
from ..units import clock, count, listed, microseconds, milliseconds, percent, size
from ..watching.before import Before
from ..watching.blocks import Role, Seen
from ..watching.held_memory import grows
from ..watching.late import Late, began_late, why_late
from ..watching.not_there import not_there
from ..watching.outside import taken_outside
from ..watching.placed import placed
from ..watching.records import HOST, KERNEL, LIBRARY, NOBODY, WAITING, short, wholes
from ..watching.server import DEVICE, ServerKind
from ..watching.shares import Change, Part, Share, shares
from ..watching.threads import ThreadLoad
from ..watching.xruns import xruns
from . import late_blocks
from .held_up import (
    BUSY,
    OUTSIDE,
    asleep_words,
    clock_words,
    outside_words,
    waiting_words,
)
from .late_blocks import SLEPT_ON
from .memory import kept_words

RATES = (48000, 44100, 96000, 88200, 192000, 176400)
# A cycle is one of a buffer size if it agrees with it so far.
AGREES = 0.002
WORDS = {
    HOST: "the host itself",
    LIBRARY: "libraries, not called by a plugin",
    NOBODY: "code that is not known",
    KERNEL: "the system, for these threads",
    WAITING: "busy waiting",
}
ROLE_WORDS: dict[Role, str] = {
    "engine": "Audio engine",
    "ahead": "Computed ahead",
    "window": "Window",
    "disk": "Disk",
    "other": "Other threads",
}
SHOWN_THREADS = 8
# What an engine does for so much of its time is worth a word.
SEEN_THERE = 0.02
# A clock that differs from that of before by so much is told.
OTHER_CLOCK = 0.02
TAKEN = "cores were taken away meanwhile (see below)"
# So many pages of new memory a second are worth a word.
NEW_PAGES, PAGE = 200, 4096
# So much memory (bytes) is worth a word. A host that keeps less than such a part of what its plugins do has not all.
MUCH, LESS = 1 << 20, 0.9


class Row(NamedTuple):
    """A line of the table of who takes what: shares of one core."""

    name: str
    share: Share
    is_plugin: bool


def buffer_of(period: float) -> tuple[int, int] | None:
    """The buffer size (samples) and rate (Hz) that make blocks of so many seconds; None if no usual ones do."""
    for rate in RATES:
        for buffer in (2**power for power in range(4, 14)):
            if abs(buffer / rate / period - 1) < AGREES:
                return buffer, rate
    for rate in RATES:
        for buffer in range(48, 4097, 48):
            if abs(buffer / rate / period - 1) < AGREES / 4:
                return buffer, rate
    return None


def block_words(period: float) -> str:
    """The length of a block: "5.33 ms, as of 256 samples at 48 kHz"."""
    found = buffer_of(period)
    if found is None:
        return milliseconds(period)
    return f"{milliseconds(period)}, as of {found[0]} samples at {found[1] / 1000:g} kHz"


def hosts_words(found: int) -> str:
    """How many hosts, where at least one runs."""
    return "a host" if found == 1 else f"{found} hosts"


def host_words(name: str, plugins: Sequence[str], threads: int, names: Mapping[str, str]) -> str:
    """A running host in a list of several: what it is called, and what tells it from the others."""
    called = [names.get(path) or short(path) for path in plugins]
    held = ", ".join(called) if len(called) < 3 else f"{called[0]} and {len(called) - 1} more"
    return f"{name}: {held or 'no plugins'}; {count(threads, 'thread')} in real time"


def server_words(kind: ServerKind, name: str, threads: int) -> str:
    """A sound server in a list of hosts."""
    called = f"{kind} ({name})" if kind == "JACK" else kind
    return f"{called} with its clients; {count(threads, 'thread')} in real time"


def heard_words(of: Seen) -> list[str]:
    """What a sound server told of itself, beside what was seen of its blocks; empty if none was heard."""
    heard, blocks = of.recording.heard, of.blocks
    if heard is None:
        return []
    server = heard.server
    clients = sum(1 for client in server.clients if client.name != DEVICE)
    ways = [
        f"{milliseconds(delay / server.rate)} {way}"
        for delay, way in ((server.latency_in, "in"), (server.latency_out, "out")) if delay >= 0
    ]  # fmt: skip
    said = f"{server.kind}: {count(clients, 'client')}, {server.buffer} samples at {server.rate / 1000:g} kHz"
    said += "" if server.is_real_time else ", not in real time"
    said += f"; its device takes {' and '.join(ways)}" if ways else ""
    if len(heard.load):
        said += f"; a load of {percent(float(heard.load.mean()))} by its own count"
        said += f", {percent(float(blocks.load.mean()))} on average as seen here" if blocks is not None else ""
    return [f"{said}.", *([] if len(heard.xrun_time) else [xrun_words(of)])]


def xrun_words(of: Seen) -> str:
    """How many xruns the server told of, and what the blocks say of them."""
    heard = of.recording.heard
    told = len(heard.xrun_time) if heard is not None else 0
    if heard is None or not told:
        return "No xrun was told."
    since = (of.recording.ended - int(heard.xrun_time[-1])) / 1e9
    said = f"{heard.server.kind} told of {count(told, 'xrun')}, the last {since:.0f} s ago"
    matched = xruns(of)
    late, waited = int(matched.is_late.sum()), Counter(matched.absent[matched.absent >= 0].tolist())
    blocks = "a late block" if late == 1 else "late blocks"
    if late == told:
        return f"{said}; {'all ' if told > 1 else ''}with {blocks}."
    reasons = [f"{late} with {blocks}"] if late else []
    reasons += [
        f"{times} while {_thread_words(of, thread)} did not compute: it waited for something"
        for thread, times in waited.most_common()
    ]  # fmt: skip
    unknown = told - late - waited.total()
    if unknown:
        advice = "look at the device and its driver, not at the plugins"
        reasons.append(f"{unknown} while every block was in time: {advice}")
    return f"{said}; {', '.join(reasons)}."


def _thread_words(of: Seen, place: int) -> str:
    """What a thread of a server's client is called: the client where it is the only one of its process."""
    thread, heard = of.recording.threads[place], of.recording.heard
    clients = heard.server.clients_of(thread.process) if heard is not None else []
    return f"the client {clients[0].name}" if len(clients) == 1 else f"the thread {thread.name}"


def headline(of: Seen) -> str:
    """The first sentence: how full the blocks are, and whether any was late."""
    seconds = f"{of.recording.seconds:.0f} s"
    blocks = of.blocks
    if not any(len(thread.switch_time) for thread in of.recording.threads):
        return f"Nothing has run in {seconds}."
    if blocks is None or not len(blocks.load):
        return f"No cycle found in {seconds}: no thread wakes up in equal steps. Is the host playing?"
    late = blocks.dropouts
    if late == 0:
        said = "none was late"
    else:
        said = f"{late} of {blocks.number} {'was' if late == 1 else 'were'} late"
    return (
        f"Blocks of {block_words(blocks.period)}: typical {percent(blocks.typical)}, "
        f"one in a hundred {percent(blocks.bad)}, worst {percent(blocks.worst)}; {said} in {seconds}."
    )


def owner_words(owner: int, files: Sequence[str], names: Mapping[str, str]) -> str:
    """What an owner of code is called: the plugin as installed, else its file, else a word for the rest."""
    if owner <= 0:
        return WORDS[owner]
    path = files[owner - 1]
    if owner in wholes(tuple(files)).values():
        return f"{short(path)}, not told which of its plugins"
    return names.get(path) or short(path)


def table(of: Seen, names: Mapping[str, str], role: Role | None = "engine") -> list[Row]:
    """Who takes how much in the threads of one role, plugins first, each the most first."""
    rows = [Row(owner_words(s.owner, of.recording.files, names), s, s.owner > 0) for s in shares(of, role)]
    return sorted(rows, key=lambda row: (not row.is_plugin, -row.share.core))


def by_name(rows: Sequence[Row]) -> dict[str, Share]:
    """What each row of a table takes."""
    return {row.name: row.share for row in rows}


def taken_words(of: Taken) -> str:
    """What a session was made of, in sentences."""
    tracks = sum(1 for strip in of.session.strips if strip.kind == "track")
    what = "" if of.is_routed else "the engine's threads as "
    words = f"A session of what was seen: {what}{count(tracks, 'track')}, "
    words += f"{count(len(of.cards), 'plugin')}."
    if of.unknown:
        names = ", ".join(file.rpartition("/")[2] for file in of.unknown[:4])
        words += f" Not known by name, and so not to be measured here: {names}{' …' if len(of.unknown) > 4 else ''}."
    words += f" Costs are as seen at {of.buffer} samples; "
    if not of.is_routed:
        return f"{words}how the tracks are routed was not seen."
    words += "tracks are the server's clients, routed as they are connected."
    if of.circles:
        words += f" Left out, since they close a circle: {', '.join(of.circles)}."
    return words


def compared_words(of: Compared) -> str:
    """Predicted against seen, in a sentence."""
    if of.typical is None:
        return f"Predicted {percent(of.load)} at {clock(of.second)}; no cycle was found to compare it with."
    # From both as they are told, so that the three belong together.
    digits = 2 if min(of.typical, of.load) >= 0.1 else 3
    more = round(of.typical, digits) - round(of.load, digits)
    which = "more" if more > 0 else "less"
    how = "as predicted" if abs(more) < 0.02 else f"{percent(abs(more))} of the deadline {which}"
    return (
        f"Predicted for {clock(of.second)}: {percent(of.load)} of the deadline; seen {percent(of.typical)}: {how}. "
        f"Work while it plays: {percent(of.work)} of one core predicted, {percent(of.seen_work)} seen."
        f"{_memory_compared(of)}"
    )


def _memory_compared(of: Compared) -> str:
    """What the plugins keep beside what the host has in memory."""
    if of.kept is None or not of.keeps.kinds:
        return ""
    seen = size(of.kept.whole)
    said = f" Memory: its plugins keep {kept_words(of.keeps)} as measured, the host {seen} with all in it"
    if of.kept.whole < LESS * of.keeps.bytes:
        return f"{said}: less, since some of it is loaded when it first plays, or was never measured in this host."
    return f"{said}."


def compared_table(of: Compared) -> str:
    """The same with a line for each plugin that the session and the host both have."""
    lines = ["", compared_words(of)]
    if of.plugins:
        lines.append("  plugin                            predicted       seen   95 of 100 times")
    for each in of.plugins:
        interval = f"{percent(each.low)}–{percent(each.high)}"
        lines.append(f"  {each.name[:34]:34} {percent(each.predicted):>8}   {percent(each.seen):>8}   {interval:>15}")
    return "\n".join(lines)


def between(share: Share) -> str:
    """An interval with no more digits than it has: "17–20 %"."""
    digits = 0 if share.high - share.low > 0.01 else 1
    return f"{share.low * 100:.{digits}f}–{share.high * 100:.{digits}f} %"


def findings(
    of: Seen, rows: Sequence[Row], parts: Sequence[Part], names: Mapping[str, str], with_late: bool = True
) -> list[str]:
    """What else is worth a sentence, each from what was seen. `names` are those of plugin files. Why blocks were late
    is left out if it is told elsewhere (not `with_late`)."""
    heard = of.recording.heard
    said = [xrun_words(of)] if heard is not None and len(heard.xrun_time) else []
    late = why_late(of)
    said += _late_words(late, of, names) if with_late else []
    plugins = [row for row in rows if row.is_plugin]
    if plugins:
        top = plugins[0]
        works = [row for row in rows if row.share.owner != WAITING]
        total, beside = sum(row.share.core for row in works), " beside busy waiting" if len(works) < len(rows) else ""
        said.append(
            f"{top.name} takes most: {percent(top.share.core)} of one core ({between(top.share)}), "
            f"{percent(top.share.core / total)} of all that the engine takes{beside}."
        )
    elif rows:
        said.append("No plugin was met in the engine's threads.")
    blocks = of.blocks
    if blocks is not None and of.was:
        was, now = block_words(of.was), block_words(blocks.period)
        ago = f"{of.recording.seconds:.0f} s ago"
        said.insert(0, f"The host changed its blocks {ago}, from {was} to {now}: what is shown came since.")
    if blocks is not None and len(blocks.load):
        pushed = int(blocks.pushed.sum())
        if pushed:
            often = f"{pushed} time{'s' if pushed > 1 else ''}"
            said.append(f"The engine's threads had to give way to others {often} while they had work to do.")
        began = began_late(of)
        if began.blocks:
            asleep = f", {SLEPT_ON}" if began.asleep and not (late is not None and late.slept) else ""
            latest = f"the latest {milliseconds(began.by)} after it was due"
            said.append(f"{count(began.blocks, 'block')} began late, {latest}{asleep}.")
        said += clock_words(of)
        said += outside_words(of)
        said += asleep_words(of, calling(of, names))
        said += not_there_words(of, names)
    if of.blocks is not None and not any(of.recording.threads[k].is_real_time for k in of.engine):
        said.append("Its audio threads do not run in real time: any other program may take their core away.")
    said += placed_words(of)
    said += waiting_words(of, parts)
    window = next((part for part in parts if part.role == "window"), None)
    if window is not None and window.core > 0.1:
        said.append(f"Its window takes {percent(window.core)} of one core beside the engine.")
    said += heard_words(of)
    said += memory_words(of)
    if of.recording.lost:
        said.append(f"{of.recording.lost} records were lost for want of room: figures may be too low.")
    return said


def placed_words(of: Seen) -> list[str]:
    """On which cores its engine computed, where they are not alike and it is worth a word."""
    found = placed(of)
    shares = (
        (found.beside, "beside another of its threads on the same core"), (found.slow, "on slow cores"),
    ) if found is not None else ()  # fmt: skip
    told = [f"{percent(share)} of the time {where}" for share, where in shares if share >= SEEN_THERE]
    return [f"Its engine computed {' and '.join(told)} (see Machine)."] if told else []


def part_words(of: Part) -> str:
    """What the threads of one role take."""
    both = f" ({percent(of.core - of.waiting)} work, {percent(of.waiting)} busy waiting)"
    waiting = both if of.waiting >= BUSY else ""
    return f"{ROLE_WORDS[of.role]} {percent(of.core)} of one core{waiting}"


def late_words(of: Seen, names: Mapping[str, str]) -> list[str]:
    """Why blocks were late, in a sentence; nothing if none was. `names` are those of plugin files."""
    return _late_words(why_late(of), of, names)


def _late_words(found: Late | None, of: Seen, names: Mapping[str, str]) -> list[str]:
    """The same of what is known of late blocks."""
    return late_blocks.late_words(found, calling(of, names), thread_names(of), _why_slowed(of))


def calling(of: Seen, names: Mapping[str, str]) -> Callable[[int], str]:
    """What gives the name of an owner of code. `names` are those of plugin files."""
    return lambda owner: owner_words(owner, of.recording.files, names)


def thread_names(of: Seen) -> list[str]:
    """The names of the threads of a recording, in order."""
    return [thread.name for thread in of.recording.threads]


def _why_slowed(of: Seen) -> str:
    """Why all in late blocks took longer alike."""
    outside = taken_outside(of)
    return TAKEN if outside is not None and outside >= OUTSIDE else late_blocks.SLOWED


def memory_words(of: Seen) -> list[str]:
    """What it keeps in memory at last, and whether it takes more and more."""
    held = of.recording.memory
    if not held:
        return []
    last = held[-1]
    said = f"It keeps {size(last.own)} in memory, and {size(last.files)} of files"
    if last.swapped >= MUCH:
        said += f"; {size(last.swapped)} more lie on the disk, swapped out"
    if last.locked >= MUCH:
        said += f"; {size(last.locked)} it does not let be swapped out, touched or not"
    more = grows(held)
    growing = [f"It takes {size(more * 60)} more memory a minute, without an end so far."] if more else []
    return [f"{said}.", *growing]


def not_there_words(of: Seen, names: Mapping[str, str]) -> list[str]:
    """What memory the engine touched that was not there, where there is any to speak of."""
    found, files, said = not_there(of), of.recording.files, []
    if found.read:
        whose = f", mostly by {owner_words(found.reader, files, names)}" if found.reader is not None else ""
        slept = f"; its threads slept for it, for {milliseconds(found.longest)} at most" if found.slept else ""
        said.append(f"Its engine touched memory {count(found.read, 'time')} that lay on the disk{whose}{slept}.")
    if found.new >= NEW_PAGES:
        whose = f", most of it by {owner_words(found.asks, files, names)}" if found.asks is not None else ""
        each = f"{size(found.new * PAGE)} of new memory a second{whose}"
        said.append(f"Its engine touches {each}: for each piece of it the system stops the thread.")
    return said


def threads_words(found: Sequence[ThreadLoad]) -> list[str]:
    """What can be said of threads where it is not seen who computes in them."""
    busy = [each for each in found if each.core >= 0.001 or each.waited >= 0.001]
    said = []
    for each in busy[:SHOWN_THREADS]:
        kind = "in real time" if each.is_real_time else "not in real time"
        said.append(f"{each.name} ({kind}): {percent(each.core)} of one core, waits {percent(each.waited)} of the time")
    return said or ["Its threads do nothing."]


def blocks_before(of: Before, now: Seen) -> str:
    """How full blocks were before, beside now; empty where none were seen."""
    blocks = now.blocks
    if not of.period or blocks is None or not len(blocks.load):
        return ""
    size = f" of {block_words(of.period)}" if abs(of.period / blocks.period - 1) > AGREES else ""
    before, after = (
        f"typical {percent(typical)}, one in a hundred {percent(bad)}, {late or 'none'} late in {seconds:.0f} s"
        for typical, bad, late, seconds in (
            (of.typical, of.bad, of.late, of.seconds),
            (blocks.typical, blocks.bad, blocks.dropouts, now.recording.seconds),
        )
    )
    return f"Blocks{size} before: {before}; now {after}."


def change_words(found: Sequence[Change], slower: float = 1.0) -> str:
    """What has changed since a recording that was held as before: only what is more than chance, and more than
    cores explain that run so many times `slower` than then."""
    clocks = ""
    if abs(slower - 1) >= OTHER_CLOCK:
        up_to = f"up to {slower:.2f} times as long" if slower > 1 else f"as little as {slower:.2f} of the time"
        clocks = f" The cores run {'slower' if slower > 1 else 'faster'} now: what only takes {up_to} is no difference."
    real = [change for change in found if change.is_real]
    if not real:
        return f"No difference to before is more than chance.{clocks}"
    total = sum(change.difference for change in real)
    named = listed([f"{change.name} {points(change.difference)}" for change in real])
    return f"Against before {points(total)} of one core: {named}.{clocks}"


def points(difference: float) -> str:
    """A difference between two shares: "−12 %", "+0.4 %"."""
    return f"{difference * 100:+.{0 if abs(difference) >= 0.0995 else 1}f} %".replace("-", "−")


def watching_costs(of: Seen) -> str:
    """What the watching takes from the host, from how often it looked and what a look costs."""
    looks = sum(len(thread.look_time) for thread in of.recording.threads)
    taken = looks * of.recording.price / max(of.recording.seconds, 1e-9)
    each = microseconds(of.recording.price)
    return f"Watching takes {taken * 100:.1f} % of one core from it: {looks} looks at {each} each."
