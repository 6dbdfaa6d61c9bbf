"""What a plugin takes when it is called once in each deadline, against blocks in a row as cards are measured.

    .venv/bin/python -m bench.once

Real plugins from Debian's packages (those of bench.accuracy), at three buffer sizes: in a row, then sleeping between
two blocks, then spinning, then after 32 MB of other memory; medians in microseconds. On a computer of one's own the
first three agree; where other machines share the processor, only the first is the plugin's own.
"""

from __future__ import annotations

import os

import numpy as np
from numba import njit
from numpy.typing import NDArray

from bench.accuracy import REAL
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.native.clock import now, rest_until
from nimbleload.native.memory import call2, flush_denormals
from nimbleload.probe.restraint import settle_on_core
from nimbleload.probe.session_run import installed_for
from nimbleload.probe.signal import musical
from nimbleload.probe.standards import STANDARDS

RATE, BLOCKS, LEAD = 48000, 150, 50
IN_A_ROW, SLEEPING, SPINNING, AFTER_OTHERS = range(4)


@njit(nogil=True)
def _loop(call, handle, argument, inputs, source, frames, period, way, clock, others, times):
    """Fills `times` (ns) with blocks that come in one of the ways."""
    flush_denormals()
    begun = now(clock)
    for k in range(len(times)):
        due = begun + k * period
        if way == SLEEPING:
            rest_until(due, clock, times)
        elif way == SPINNING:
            while now(clock) < due:
                continue
        elif way == AFTER_OTHERS:
            for i in range(0, len(others), 8):
                others[i] += 1
        at = (k * frames) % (source.shape[1] - frames)
        for c in range(inputs.shape[0]):
            for i in range(frames):
                inputs[c, i] = source[c % source.shape[0], at + i]
        before = now(clock)
        call2(call, handle, argument)
        times[k] = now(clock) - before


def medians(hosted, frames: int, source: NDArray[np.float32]) -> list[float]:
    """The median block in each of the ways (µs)."""
    clock, others = np.zeros(4, np.int64), np.zeros(4 << 20, np.int64)
    found = []
    for way in (IN_A_ROW, SLEEPING, SPINNING, AFTER_OTHERS):
        times = np.zeros(BLOCKS, np.int64)
        _loop(
            hosted.call, hosted.handle, hosted.argument(frames), hosted.inputs, source, frames,
            int(frames / RATE * 1e9), way, clock.ctypes.data, others, times,
        )  # fmt: skip
        found.append(float(np.median(times[LEAD:])) / 1e3)
    return found


def main() -> None:
    settle_on_core(max(os.sched_getaffinity(0)))
    uses = [PluginUse("x", PluginRef("lv2", identifier, identifier)) for identifier in REAL]
    installed, source = installed_for(uses), musical(2, RATE)
    print("plugin                                    buffer   in a row   sleeping   spinning   after 32 MB (µs)")
    for use in uses:
        found = installed.get((use.plugin.standard, use.plugin.identifier))
        for frames in (64, 256, 1024) if found is not None else ():
            hosted = STANDARDS["lv2"]().load(use, found.path, RATE, frames, frames)
            figures = "".join(f"{each:11.1f}" for each in medians(hosted, frames, source))
            print(f"{found.name[:40]:40} {frames:7d}{figures}", flush=True)
            hosted.close()


if __name__ == "__main__":
    main()
