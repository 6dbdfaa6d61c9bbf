"""How true and how dear watching is, against a C host that logs what it does itself.

    .venv/bin/python -m bench.watching [--runs 20] [--seconds 3] [--threads 300]

Each run watches the host for some seconds and compares: the cycle; every block's load; late blocks; each plugin's share
against its 95 % interval. Then a host with many threads beside, and what the watcher itself takes. All in one run: the
host's log is made by the same clock.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from pathlib import Path

import numpy as np

from nimbleload.core.told.watching import table
from nimbleload.core.watching.blocks import see
from nimbleload.machine.watcher import Watcher
from tests.helpers.host import Host, Plugin

PLUGINS = [Plugin("small", 60_000), Plugin("middle", 180_000), Plugin("large", 360_000, 16, 200_000)]
PERIOD = 2_000_000


def watched(host: Host, seconds: float):
    """A recording, and what making it took of a core."""
    watcher = Watcher([host.pid])
    until, spent = time.monotonic() + seconds, time.process_time()
    while time.monotonic() < until:
        time.sleep(0.1)
        watcher.poll()
    spent = time.process_time() - spent
    recording = watcher.recording()
    watcher.close()
    return recording, spent / seconds


def one_run(folder: Path, seconds: float, threads: int) -> dict[str, float]:
    """One run against the host's own log."""
    with Host(folder, PLUGINS, PERIOD, int((seconds + 1.5) * 1e9 / PERIOD), threads, late_every=50) as host:
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
        "missed": float((log.ended > log.due + PERIOD)[~inside].mean()) if (~inside).any() else 0.0,
    }  # fmt: skip


def many_threads(folder: Path, count: int, seconds: float) -> tuple[float, int]:
    """What watching a host takes beside so many threads that wake up now and then, and how many records were lost."""
    with Host(folder, PLUGINS, PERIOD, int((seconds + 3) * 1e9 / PERIOD), count) as host:
        recording, price = watched(host, seconds)
    return price, recording.lost


def main() -> None:
    words = argparse.ArgumentParser()
    words.add_argument("--runs", type=int, default=20)
    words.add_argument("--seconds", type=float, default=3.0)
    words.add_argument("--threads", type=int, default=60)
    asked = words.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
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
        price, lost = many_threads(folder, asked.threads, 2 * asked.seconds)
        print(
            f"with {asked.threads} threads in the engine: {100 * price:.1f} % of a core, {lost} records lost (goal 2 %)"
        )


if __name__ == "__main__":
    main()
