"""Real plugins measured as sessions measure them, against a plain loop in C that switches them on for each size.

    .venv/bin/python -m bench.plain_loop [NAME …]

Everything in CLAP_PATH and the standard's folders whose name is given (zam-plugins of Debian, if none is): the C loop
and our own figure in turns, so many times round; the least of each count, since this computer is disturbed for seconds.
"""

from __future__ import annotations

import math
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.session import Session
from nimbleload.core.session.strips import Strip
from nimbleload.probe import catalogue, session_run
from nimbleload.probe.effort import Effort
from nimbleload.probe.signal import CYCLE, musical

RATE = 48000
ROUNDS = 4
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


def plain(program: Path, signal: Path, plugin: catalogue.Installed, frames: int, channels: int) -> float:
    """Seconds per block by the C loop; infinity if it did not run."""
    cycle = max(CYCLE // frames, 4)
    lead, blocks = max(RATE // frames, cycle), max(2 * cycle, 24)
    core = max(os.sched_getaffinity(0))
    command = [program, plugin.path, plugin.identifier, RATE, frames, lead, blocks, 9, core, signal, channels]
    done = subprocess.run([str(part) for part in command], capture_output=True, text=True, check=False)
    return float(done.stdout) * 1e-9 if done.returncode == 0 else math.inf


def ours(plugin: catalogue.Installed) -> dict[int, float]:
    """Seconds per block as a session's measuring finds them, for one of its instances: what has one channel is there
    twice on a stereo track, and the C loop runs one."""
    use = PluginUse("x", PluginRef(plugin.standard, plugin.identifier, plugin.name))
    of = Session("x", RATE, 1.0, (Strip("a", "a", inserts=(use,)),))
    todo = [job._replace(details=False) for job in session_run.jobs(of, {}, SIZES)]
    *_, last = session_run.run(todo, {}, effort=Effort(5, 0.1))
    if last.card.failure:
        print(f"    {last.card.failure}")
    instances = last.card.made.instances if last.card.made is not None else 1
    return {c.buffer: c.mean / instances for c in last.card.cells if c.condition == "sounding"}


def main() -> None:
    names = [name.lower() for name in sys.argv[1:]] or ["zam"]
    found = [
        plugin
        for plugin in catalogue.paths_by_identifier(catalogue.catalogue()).values()
        if plugin.standard == "clap" and any(name in plugin.name.lower() for name in names)
    ]
    ratios: list[float] = []
    within = 0
    print("ours against a plain C loop" + "".join(f"{size:>24}" for size in SIZES))
    with tempfile.TemporaryDirectory() as folder:
        program, signal = built(Path(folder)), Path(folder) / "signal"
        musical(2, RATE).tofile(signal)
        for plugin in sorted(found, key=lambda p: p.name):
            plainly, own = (dict.fromkeys(SIZES, math.inf) for _ in range(2))
            for _ in range(ROUNDS):
                for size in SIZES:
                    plainly[size] = min(plainly[size], plain(program, signal, plugin, size, 2))
                own = {size: min(own[size], seconds) for size, seconds in ours(plugin).items()}
            row = f"{plugin.name[:26]:27}"
            for size in SIZES:
                truth = plainly[size]
                if size not in own or not math.isfinite(truth):
                    row += f"{'—':>24}"
                    continue
                ratio = own[size] / truth
                ratios.append(ratio)
                good = LEAST <= ratio <= MOST or abs(own[size] - truth) < NANOSECONDS * 1e-9
                within += good
                row += f"{own[size] * 1e6:9.2f} /{truth * 1e6:8.2f} {ratio:4.2f}" + (" " if good else "!")
            print(row, flush=True)
    middle = statistics.median(ratios) if ratios else math.nan
    print(f"{within} of {len(ratios)} within {LEAST} … {MOST} or {NANOSECONDS} ns; the median ratio is {middle:.3f}")


if __name__ == "__main__":
    main()
