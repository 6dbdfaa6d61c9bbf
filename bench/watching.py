"""How true and how dear watching is, against a C host that logs what it does itself.

    .venv/bin/python -m bench.watching [--runs 20] [--seconds 3] [--threads 60]
    .venv/bin/python -m bench.watching --server          a real sound server with twelve real plugins
    .venv/bin/python -m bench.watching --long 1800       300 threads and 5,000 mapped files, for so many seconds
    .venv/bin/python -m bench.watching --one-file        plugins that lie in one file, told apart
    .venv/bin/python -m bench.watching --rehearsal       a rehearsal of Debian's plugins, against its own clock
    .venv/bin/python -m bench.watching --new-memory      what touching new memory takes, watched and not
    .venv/bin/python -m bench.watching --spinning        threads that wait without sleeping, in six ways
    .venv/bin/python -m bench.watching --rare 300        a block in some seconds is late, for so many seconds

Each run watches the host for some seconds and compares: the cycle; every block's load; late blocks; each plugin's share
against its 95 % interval; blocks late while watched and while not. Then a host with many threads in its engine, and
what the watcher itself takes. All in one run: the host's log is made by the same clock.
"""

from __future__ import annotations

import argparse
import mmap
import os
import resource
import tempfile
import threading
import time
from pathlib import Path

import msgspec
import numpy as np

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.rehearsal import Rehearsal
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import survey, to_rehearse
from nimbleload.core.told.dropouts import past_words
from nimbleload.core.told.watching import calling, table, thread_names
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.pattern import regular
from nimbleload.core.watching.records import OF_FILE, short
from nimbleload.core.watching.shares import parts, shares
from nimbleload.machine import perf, sound_servers
from nimbleload.machine.maps import NO_PARTS, Part, Parts
from nimbleload.machine.watcher import Watcher
from nimbleload.probe.places import places
from nimbleload.shell import watch as shell_watch
from tests.helpers.host import Host, Plugin, in_one_file
from tests.helpers.sound_server import TWELVE, jack, wait_for

from .accuracy import real_session, rehearsed

PLUGINS = [Plugin("small", 60_000), Plugin("middle", 180_000), Plugin("large", 360_000, 16, 200_000)]
PERIOD = 2_000_000
# What functions of one file take (ns), and which plugins they are of: the last is of two, so that the file tells not.
IN_ONE_FILE, ONE_FILE = {"small": 150_000, "large": 450_000, "twin": 90_000}, {"small": "1:small", "large": "2:large"}
IDLE, MAPPED, LONG_PERIOD = 296, 5000, 5_333_333
# A plugin bursts once in so many seconds; blocks that are late by less than so much (ns) may or may not be seen so.
RARE_EVERY, UNCLEAR = 12.0, 100_000
# How workers wait (see `host.c`), and whether the first thread waits in the same way for them.
SPINNING = ((-1, False), (-1, True), (-2, False), (-3, False), (300_000, False), (0, True))


def new_memory(pages: int = 8192, rounds: int = 8) -> None:
    """What a page takes that is touched first (µs), while the thread is watched and while it is not, in turns."""
    taken: dict[bool, list[float]] = {False: [], True: []}
    for k in range(2 * rounds):
        is_watched = bool(k % 2)
        records = perf.Records(threading.get_native_id(), 1 << 40, 1024) if is_watched else None
        new = mmap.mmap(-1, pages * mmap.PAGESIZE)
        begun = time.thread_time()
        for place in range(0, len(new), mmap.PAGESIZE):
            new[place] = 1
        taken[is_watched].append((time.thread_time() - begun) / pages * 1e6)
        new.close()
        if records is not None:
            records.close()
    plain, looked = min(taken[False]), min(taken[True])
    print(f"a new page: {looked:.2f} µs while watched, {plain:.2f} while not")


def watched(host: Host, seconds: float, parts: Parts = NO_PARTS):
    """A recording, and what making it took of a core."""
    return polled(Watcher([host.pid], parts=parts), seconds)


def polled(watcher: Watcher, seconds: float):
    """The same with any watcher, which is closed after."""
    until, spent = time.monotonic() + seconds, time.process_time()
    while time.monotonic() < until:
        time.sleep(0.1)
        watcher.poll()
    spent = time.process_time() - spent
    recording = watcher.recording()
    watcher.close()
    return recording, spent / seconds


def one_run(folder: Path, seconds: float, threads: int, spin: int = 0, barrier: bool = False) -> dict[str, float]:
    """One run against the host's own log."""
    count = int((seconds + 1.5) * 1e9 / PERIOD)
    with Host(folder, PLUGINS, PERIOD, count, threads, late_every=50, spin=spin, barrier=barrier) as host:
        recording, price = watched(host, seconds)
        log = host.log()
    seen = see(recording)
    blocks = seen.blocks
    if blocks is None:
        return {}
    inside = (log.due > blocks.start[0] - PERIOD / 2) & (log.due < blocks.start[-1] + PERIOD / 2)
    at = np.minimum(np.searchsorted(log.begun, blocks.start), len(log.due) - 1)
    off = np.abs(blocks.load * PERIOD - (log.ended - log.begun)[at])
    late = int((log.ended > log.due + PERIOD)[inside].sum())
    shares = {row.name: row.share for row in table(seen, {}) if row.is_plugin}
    # What plugins took by the clock, without what the machine took away from them meanwhile.
    truth = np.median(log.taken[inside], axis=0)
    bursts = np.array([p.burst / p.every if p.every else 0 for p in PLUGINS])
    hits = sum(
        p.name in shares and shares[p.name].low <= (t + b) / PERIOD <= shares[p.name].high
        for p, t, b in zip(PLUGINS, truth, bursts, strict=True)
    )
    return {
        "cycle": abs(blocks.period * 1e9 / PERIOD - 1), "off": float(np.median(off)) / 1e3, "late": late,
        "seen": blocks.dropouts, "within": hits / len(PLUGINS), "price": price, "lost": recording.lost,
        "missed_watched": float((log.ended > log.due + PERIOD)[inside].mean()),
        "missed": float((log.ended > log.due + PERIOD)[~inside].mean()) if (~inside).any() else 0.0,
    }  # fmt: skip


def of_one_file(folder: Path, runs: int, seconds: float) -> None:
    """Plugins of one file, with the names of its functions and without: each one's share against the host's log."""
    hits, told, lost = 0, 0, []
    for number in range(runs):
        file, plugins = in_one_file(folder, bool(number % 2), **IN_ONE_FILE)
        known = {str(file): [Part(of.identifier, of.ranges) for of in places(file)]}
        with Host(folder, plugins, PERIOD, int((seconds + 1.5) * 1e9 / PERIOD)) as host:
            recording, _ = watched(host, seconds, known)
            log = host.log()
        rows = [row.share for row in table(see(recording), {}) if row.is_plugin]
        by_file = {recording.files[share.owner - 1].rpartition(OF_FILE)[2]: share for share in rows}
        told += sum(share.looks for share in rows)
        for name, true in zip(IN_ONE_FILE, np.median(log.taken, axis=0) / PERIOD, strict=True):
            share = by_file.get(ONE_FILE.get(name, str(file)))
            hits += share is not None and share.low <= true <= share.high
            lost.append(abs(share.core / true - 1) if share is not None else 1.0)
    within = 100 * hits / (runs * len(IN_ONE_FILE))
    print(f"{runs} runs, {told} looks: {within:.0f} % of the plugins of one file within their 95 % interval (goal 93), "
          f"off by {100 * np.median(lost):.1f} % (median)")  # fmt: skip


def many_threads(folder: Path, count: int, seconds: float) -> tuple[float, int]:
    """What watching a host takes beside so many threads that wake up now and then, and how many records were lost."""
    with Host(folder, PLUGINS, PERIOD, int((seconds + 3) * 1e9 / PERIOD), count) as host:
        recording, price = watched(host, seconds)
    return price, recording.lost


def with_server(folder: Path, runs: int, seconds: float) -> None:
    """A real server: its own figure of its load against what is seen, and who makes up the engine."""
    off, sums, prices, names = [], [], [], set()
    with jack(folder) as server:
        for place, name in enumerate(TWELVE):
            server.add(f"c{place}", name)
        wait_for(lambda: all(f"c{k}:" in server.run("jack_lsp") for k in range(len(TWELVE))), "the clients")
        running = next(each for each in sound_servers.servers() if each.process == server.process.pid)
        for _ in range(runs):
            watcher = Watcher.of_server(running)
            recording, price = polled(watcher, seconds)
            seen = see(recording)
            if seen.blocks is None or recording.heard is None:
                continue
            engine = next(part.core for part in parts(seen) if part.role == "engine")
            off.append(float(seen.blocks.load.mean() - recording.heard.load[1:].mean()))
            sums.append(sum(share.core for share in shares(seen)) / engine - 1)
            prices.append(price)
            names |= {row.name for row in table(seen, {}) if row.is_plugin}
    points = ", ".join(f"{100 * each:+.1f}" for each in sorted(off))
    print(f"{len(off)} of {runs} runs; {len(names)} of {len(TWELVE)} plugins met")
    print(f"load seen less the server's own, in points: {points} (goal within 3)")
    print(f"plugins and the rest against the engine: {100 * max(map(abs, sums)):.2f} % off at most")
    print(f"watcher: {100 * np.median(prices):.1f} % of a core")


def real_time_worker() -> int | None:
    """The process that rehearses just now: the one of ours with threads in real time."""
    for task in Path("/proc").glob("[0-9]*/task/[0-9]*"):
        try:
            if os.sched_getscheduler(int(task.name)) & ~os.SCHED_RESET_ON_FORK != os.SCHED_FIFO:
                continue
            if b"nimbleload" in (task.parents[1] / "cmdline").read_bytes():
                return int(task.parents[1].name)
        except OSError:
            continue
    return None


def of_rehearsal(runs: int, seconds: float) -> None:
    """A rehearsal's blocks and plugins by its own clock, and as they are seen from outside."""
    of = real_session()
    kept = tuple(strip for strip in of.strips if strip.kind != "track" or strip.id in ("t0", "t4", "t8"))
    of = survey(to_rehearse(msgspec.structs.replace(of, strips=kept)), Plan(), {}, Machine(1), 1024)
    blocks_off, plugins_off = [], []
    for _ in range(runs):
        outcome: list[Rehearsal | None] = []
        thread = threading.Thread(target=lambda out=outcome: out.append(rehearsed(of, 3 * seconds + 2)))
        thread.start()
        while thread.is_alive() and (worker := real_time_worker()) is None:
            time.sleep(0.05)
        if worker is None:
            continue  # why it was not rehearsed has been printed
        time.sleep(1.0)
        recording, _ = polled(Watcher([worker]), 3 * seconds)
        thread.join()
        seen, own = see(recording), outcome[0]
        if seen.blocks is None or own is None:
            print("not seen, or not rehearsed")
            continue
        period = of.buffer / of.session.rate
        plugins = sum(row.share.core for row in table(seen, {}) if row.is_plugin)
        by_clock = sum(own.uses.values()) / period
        blocks_off.append(seen.blocks.typical / own.typical - 1)
        plugins_off.append(plugins / by_clock - 1)
        print(f"blocks {100 * own.typical:.2f} % by its own clock, {100 * seen.blocks.typical:.2f} % seen; plugins "
              f"{100 * by_clock:.2f} and {100 * plugins:.2f} % of a core", flush=True)  # fmt: skip
    for name, off in (("blocks", blocks_off), ("plugins", plugins_off)):
        print(f"{name}: {', '.join(f'{100 * each:+.1f} %' for each in off)} off (goal 3)")


def for_long(folder: Path, seconds: float) -> None:
    """Many threads, many files, for long: what the watcher takes, how much memory, what is lost."""
    files = folder / "files"
    files.mkdir()
    for number in range(MAPPED):
        (files / f"sample{number}.wav").write_bytes(b"\0" * 4096)
    with Host(folder, PLUGINS, LONG_PERIOD, int((seconds + 5) * 1e9 / LONG_PERIOD), 4, idle=IDLE, files=files) as host:
        recording, past, events, price = as_in_a_shell(host, seconds)
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    many = f"{len(recording.threads)} threads, {MAPPED} files, {seconds:.0f} s"
    print(f"{many}: {100 * price:.2f} % of a core (goal 2 %), dropouts looked for meanwhile: {past.number} found")
    not_seen = [each for each in events if "could not be watched" in each]
    told = "; ".join(not_seen) or "all threads seen"
    print(f"{most:.0f} MB at most (goal 200), {recording.lost} records lost; {told}")


def as_in_a_shell(host: Host, seconds: float):
    """What `nimble watch` would see of a host, and what that takes of a core."""
    spent = time.process_time()
    found = shell_watch.watched((host.pid,), seconds, False, {})
    return *found, (time.process_time() - spent) / seconds


def seldom(folder: Path, seconds: float) -> None:
    """A plugin that bursts once in some seconds, and a program that computes while some other blocks are late: what is
    told of them against the host's log."""
    every = round(RARE_EVERY * 1e9 / LONG_PERIOD)
    plugins = [Plugin("steady", 1_200_000), Plugin("bursty", 600_000, every, LONG_PERIOD)]
    with Host(folder, plugins, LONG_PERIOD, int((seconds + 3) * 1e9 / LONG_PERIOD), 2) as host:
        recording, past, _, price = as_in_a_shell(host, seconds)
        log = host.log()
    at_end = log.ended > log.due + LONG_PERIOD
    inside = at_end & (log.due > past.begun) & (log.due < past.ended - 2 * LONG_PERIOD)
    due, over = log.due[inside], log.ended[inside]
    # A block that is late by less than the clocks agree is neither.
    clearly = over > due + LONG_PERIOD + UNCLEAR
    found = [any(d.time - UNCLEAR <= at <= d.ended for d in past.dropouts) for at in due[clearly].tolist()]
    false = [d for d in past.dropouts if d.blocks and not ((due >= d.time - LONG_PERIOD) & (due <= d.ended)).any()]
    own = [k for k in range(0, len(log.due), every) if past.begun < log.due[k] < past.ended - 2 * LONG_PERIOD]
    met = [any(d.time - UNCLEAR <= log.due[k] <= d.ended for d in past.dropouts) for k in own]
    print(f"{past.played:.0f} s played, {100 * price:.2f} % of a core; {len(own)} bursts, {sum(met)} of them found")
    print(f"{int(clearly.sum())} blocks clearly late by the host's log, {sum(found)} of them in a dropout; "
          f"{past.number} dropouts, {len(false)} of them without a late block")  # fmt: skip
    names, seen = {file: short(file) for file in recording.files}, see(recording)
    for sentence in past_words(past, calling(seen, names), thread_names(seen)):
        print(f"  {sentence}")
    alone = [d for d in past.dropouts if any(d.time - UNCLEAR <= log.due[k] <= d.ended for k in own)]
    kept = regular(tuple(d.time / 1e9 for d in alone))
    if kept is not None:
        print(f"of the bursts alone: steps of {kept.every:.3f} s, {every * LONG_PERIOD / 1e9:.3f} by the log")


def main() -> None:
    words = argparse.ArgumentParser()
    words.add_argument("--runs", type=int, default=20)
    words.add_argument("--seconds", type=float, default=3.0)
    words.add_argument("--threads", type=int, default=60)
    words.add_argument("--server", action="store_true")
    words.add_argument("--long", type=float, default=0.0)
    words.add_argument("--one-file", action="store_true")
    words.add_argument("--rehearsal", action="store_true")
    words.add_argument("--new-memory", action="store_true")
    words.add_argument("--spinning", action="store_true")
    words.add_argument("--rare", type=float, default=0.0)
    asked = words.parse_args()
    if asked.new_memory:
        new_memory()
        return
    if asked.rehearsal:
        of_rehearsal(min(asked.runs, 5), asked.seconds)
        return
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        if asked.one_file:
            of_one_file(folder, asked.runs, asked.seconds)
            return
        if asked.rare:
            seldom(folder, asked.rare)
            return
        if asked.server or asked.long:
            if asked.server:
                with_server(folder, asked.runs, asked.seconds)
            if asked.long:
                for_long(folder, asked.long)
            return
        if asked.spinning:
            found = [one_run(folder, asked.seconds, 2, *SPINNING[k % len(SPINNING)]) for k in range(asked.runs)]
        else:
            found = [one_run(folder, asked.seconds, 1 + k % 2) for k in range(asked.runs)]
        found = [each for each in found if each]
        print(f"{len(found)} of {asked.runs} runs found a cycle")
        print(f"cycle: off by {max(f['cycle'] for f in found):.1e} at most (goal 1e-3)")
        print(f"load of a block: off by {np.median([f['off'] for f in found]):.0f} µs (median; goal 2 % + 20 µs)")
        late, seen = sum(f["late"] for f in found), sum(f["seen"] for f in found)
        exact = sum(f["late"] == f["seen"] for f in found)
        print(f"late blocks: {seen} seen, {late} logged; the same in {exact} of {len(found)} runs")
        within = np.mean([f["within"] for f in found])
        print(f"plugins within their 95 % interval: {100 * within:.0f} % (goal 93 %)")
        taken, lost = 100 * np.median([f["price"] for f in found]), sum(f["lost"] for f in found)
        print(f"watcher: {taken:.1f} % of a core, {lost} records lost")
        watched_late, missed = (100 * np.mean([f[name] for f in found]) for name in ("missed_watched", "missed"))
        print(f"blocks late by the host's log: {watched_late:.2f} % while watched, {missed:.2f} % while not")
        if asked.spinning:
            return
        price, lost = many_threads(folder, asked.threads, 2 * asked.seconds)
        print(
            f"with {asked.threads} threads in the engine: {100 * price:.1f} % of a core, {lost} records lost (goal 2 %)"
        )


if __name__ == "__main__":
    main()
