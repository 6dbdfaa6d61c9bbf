"""A plugin that waits for the clock: how near the measured cost comes to the known one, at every buffer size.

    .venv/bin/python -m bench.known_cost

It takes 20 µs a call, 20 ns a sample, and 100 µs more in every 16th block. Waiting for the clock overshoots by up to
one reading of it, about 30 ns.
"""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

import numpy as np

from nimbleload.core.card import fit_line
from nimbleload.core.rhythm import rhythm
from nimbleload.core.session import BUFFER_SIZES, PluginRef, PluginUse
from nimbleload.probe.isolation import run
from nimbleload.probe.worker import CellMessage, Request

SOURCE = Path(__file__).parents[1] / "tests" / "helpers" / "rogue.c"
CALL, SAMPLE, BURST, PERIOD = 20e-6, 20e-9, 100e-6, 16


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        built = Path(folder) / "rogue.clap"
        subprocess.run(["gcc", "-O1", "-shared", "-fPIC", "-o", str(built), str(SOURCE)], check=True)
        use = PluginUse("x", PluginRef("clap", "test.good", "good"))
        messages = list(run(Request(use, 48000, BUFFER_SIZES, str(built), core=1)))
    cells = [m.cell for m in messages if isinstance(m, CellMessage) and m.cell.condition == "sounding"]
    print("buffer   known (µs)   measured (µs)   off by     burst every")
    for cell in cells:
        known = CALL + SAMPLE * cell.buffer + BURST / PERIOD
        found = rhythm(cell.sequence_ns())
        off = (cell.mean - known) / known
        period = found.period if found else None
        print(
            f"{cell.buffer:6d}   {known * 1e6:10.2f}   {cell.mean * 1e6:13.2f}   {off * 100:+5.2f} %   {period} blocks"
        )
    fit = fit_line(cells)
    fixed = CALL + BURST / PERIOD
    print(f"fixed part {fit.fixed * 1e6:.2f} µs (known {fixed * 1e6:.2f})")
    print(f"a sample {fit.per_sample * 1e9:.2f} ns (known {SAMPLE * 1e9:.0f})")
    worst = max(abs(c.mean - (fixed + SAMPLE * c.buffer)) / (fixed + SAMPLE * c.buffer) for c in cells)
    noise = float(np.median([c.jitter / c.mean for c in cells]))
    print(f"furthest off: {100 * worst:.2f} % (goal 3 %); typically {100 * noise:.1f} % of noise was kept apart")


if __name__ == "__main__":
    main()
