"""Real plugins measured as sessions measure them, against a plain loop in C that switches them on for each size.

    .venv/bin/python -m bench.plain_loop [NAME …]

Everything in CLAP_PATH and the standard's folders whose name is given (zam-plugins of Debian, if none is): the C loop
and our own figure in turns, so many times round. Both go by the blocks in which nobody shared the core, each by known
arithmetic of its own; the median of those readings of which nine in ten blocks are known counts. The least of all would
not do: some plugins take a third less while another thread is on the same core (ZamComp: 80 µs in place of 117).
"""

from __future__ import annotations

import math
import os
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.signal import CYCLE, musical

RATE = 48000
ROUNDS = 4
# So many of the blocks are to be known.
ENOUGH = 0.9
SIZES = (64, 256, 1024, 4096)
LEAST, MOST = 0.97, 1.05
NANOSECONDS = 200
HERE = Path(__file__).parent


def built(folder: Path) -> Path:
    """The C loop, compiled as a plugin's maker would: without options for this processor."""
    target = folder / "plain"
    include = HERE.parent / "tests" / "helpers"
    subprocess.run(["gcc", "-O2", "-w", "-I", include, "-o", target, HERE / "plain.c", "-ldl"], check=True)
    return target


class Read(NamedTuple):
    """What a block took (seconds), and whether enough of them are known to have had the core to themselves."""

    seconds: float
    known: bool


def plain(program: Path, signal: Path, plugin: catalogue.Installed, frames: int, channels: int) -> Read | None:
    """Seconds per block by the C loop; None if it did not run."""
    cycle = max(CYCLE // frames, 4)
    lead, blocks = max(RATE // frames, cycle), max(2 * cycle, 24)
    core = max(os.sched_getaffinity(0))
    command = [program, plugin.path, plugin.identifier, RATE, frames, lead, blocks, 9, core, signal, channels]
    done = subprocess.run([str(part) for part in command], capture_output=True, text=True, check=False)
    if done.returncode != 0:
        return None
    seconds, known = map(float, done.stdout.split())
    return Read(seconds * 1e-9, known >= ENOUGH)


def usual(read: Sequence[Read]) -> Read | None:
    """The median of what is known, and of all where nothing is; None of nothing."""
    known = [each.seconds for each in read if each.known]
    told = known or [each.seconds for each in read]
    return Read(statistics.median(told), bool(known)) if told else None


def ours(plugin: catalogue.Installed) -> dict[int, Read]:
    """Seconds per block as a session's measuring finds them, for one of its instances: what has one channel is there
    twice on a stereo track, and the C loop runs one."""
    use = PluginUse("x", PluginRef(plugin.standard, plugin.identifier, plugin.name))
    of = Session("x", RATE, 1.0, (Strip("a", "a", inserts=(use,)),))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, SIZES)]
    *_, last = session_run.run(todo, {}, effort=Effort(5, 0.1))
    if last.card.failure:
        print(f"    {last.card.failure}")
    instances = last.card.made.instances if last.card.made is not None else 1
    return {c.buffer: Read(c.mean / instances, c.quiet) for c in last.card.cells if c.condition == "sounding"}


def main() -> None:
    names = [name.lower() for name in sys.argv[1:]] or ["zam"]
    found = [
        plugin
        for plugin in catalogue.paths_by_identifier(catalogue.catalogue()).values()
        if plugin.standard == "clap" and any(name in plugin.name.lower() for name in names)
    ]
    ratios: list[float] = []
    within = unknown = 0
    print("ours against a plain C loop; ~: others shared the core all the while" + "".join(f"{n:>25}" for n in SIZES))
    with tempfile.TemporaryDirectory() as folder:
        program, signal = built(Path(folder)), Path(folder) / "signal"
        musical(2, RATE).tofile(signal)
        for plugin in sorted(found, key=lambda p: p.name):
            sides: tuple[dict[int, list[Read]], ...] = ({size: [] for size in SIZES}, {size: [] for size in SIZES})
            for _ in range(ROUNDS):
                made = {size: plain(program, signal, plugin, size, 2) for size in SIZES}
                for side, results in zip(sides, (made, ours(plugin)), strict=True):
                    for size, result in results.items():
                        side[size] += [result] if result is not None else []
            row = f"{plugin.name[:26]:69}"
            for size in SIZES:
                truth, own = (usual(side[size]) for side in sides)
                if truth is None or own is None:
                    row += f"{'—':>25}"
                    continue
                ratio, is_known = own.seconds / truth.seconds, own.known and truth.known
                good = LEAST <= ratio <= MOST or abs(own.seconds - truth.seconds) < NANOSECONDS * 1e-9
                mark = "~" if not is_known else " " if good else "!"
                row += f"{own.seconds * 1e6:10.2f} /{truth.seconds * 1e6:8.2f} {ratio:4.2f}{mark}"
                if is_known:
                    ratios.append(ratio)
                    within += good
                else:
                    unknown += 1
            print(row, flush=True)
    middle = statistics.median(ratios) if ratios else math.nan
    print(f"{within} of {len(ratios)} within {LEAST} … {MOST} or {NANOSECONDS} ns; the median ratio is {middle:.3f}; "
          f"of {unknown} more it is not known")  # fmt: skip


if __name__ == "__main__":
    main()
