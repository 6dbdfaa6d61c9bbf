"""What a plugin takes when it is called once in each deadline, against blocks in a row as cards are measured.

    .venv/bin/python -m bench.once [--house NAME,NAME ...] [BUFFER ...]

Real plugins from Debian's packages (those of bench.accuracy), or house processors by the names that the example gives
them. Ways in turns, eight cycles of each: in a row; spinning until the next block; keeping vectors awake, as cards are
made; asleep; asleep and with vectors woken before the block; the same with other memory used before the block. For each
place in the cycle the median of the blocks that shared the core with nobody; microseconds. On a computer of one's own
the first three agree; where other machines share the processor, only the first is the plugin's own.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator

import msgspec
import numpy as np
from numba import njit

from bench.accuracy import REAL
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.survey import to_rehearse
from nimbleload.demo import session as demo
from nimbleload.native.clock import now, rest_until
from nimbleload.native.memory import call2, flush_denormals
from nimbleload.native.witness import COLUMNS, attest, is_alone, least_units
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Request
from nimbleload.probe.paced import STEP, VALUES, keep_awake
from nimbleload.probe.restraint import settle_on_core
from nimbleload.probe.session_run import installed_for, path_of
from nimbleload.probe.signal import CYCLE, chord, musical

RATE, TURNS, WOKEN_NS = 48000, 8, 60_000
IN_A_ROW, SPINNING, AWAKE, ASLEEP, WOKEN = range(5)
# Each way: what it is called, what happens until the next block, and how much other memory is used (bytes).
WAYS = (
    ("in a row", IN_A_ROW, 0), ("spinning", SPINNING, 0), ("awake", AWAKE, 0), ("asleep", ASLEEP, 0),
    ("woken", WOKEN, 0), ("+ 1 MB", WOKEN, 1 << 20), ("+ 4 MB", WOKEN, 4 << 20),
)  # fmt: skip


@njit(nogil=True)
def _loop(call, handle, first, rest, inputs, source, frames, period, way, clock, values, others, times, told):
    """Fills `times` (ns) with blocks that come in one of the ways, and what the witness tells after each."""
    flush_denormals()
    at, place, last = 0, 0, now(clock)
    for k in range(len(times)):
        due = last + period
        if way >= ASLEEP:
            rest_until(due - (WOKEN_NS if way == WOKEN else 0), clock, told[k])
        while way != IN_A_ROW and now(clock) < due:
            if way != SPINNING:
                keep_awake(values[place : place + STEP])
                place = (place + STEP) % VALUES
        for i in range(0, len(others), 8):
            others[i] += 1
        if at + frames > source.shape[1]:
            at = 0
        for c in range(inputs.shape[0]):
            for i in range(frames):
                inputs[c, i] = source[c % source.shape[0], at + i]
        at += frames
        before = last = now(clock)
        call2(call, handle, first if k == 0 else rest)
        times[k] = now(clock) - before
        attest(told[k], clock)


def found(use: PluginUse, path: str, frames: int) -> list[float]:
    """What a block takes in each of the ways (µs; NaN where the core was never its own)."""
    hosted, source = load(Request(use, RATE, (frames,), path)), musical(2, RATE)
    notes = chord(use.voices) if use.voices else ()
    clock, values = np.zeros(4, np.int64), np.ones(VALUES, np.int32)
    count, period = max(CYCLE // frames, 1), int(frames / RATE * 1e9)
    times, told = (np.zeros((len(WAYS), TURNS, count, *more), np.int64) for more in ((), (COLUMNS,)))
    for turn in range(TURNS):
        for number, (_, way, others) in enumerate(WAYS):
            # In a row another cycle goes before it, since this program has done something else since the last one.
            blocks = 2 * count if way == IN_A_ROW else count
            made, heard = np.zeros(blocks, np.int64), np.zeros((blocks, COLUMNS), np.int64)
            _loop(
                hosted.call, hosted.handle, hosted.argument(frames, notes), hosted.argument(frames), hosted.inputs,
                source, frames, period, way, clock.ctypes.data, values, np.zeros(others // 8, np.int64), made, heard,
            )  # fmt: skip
            times[number, turn], told[number, turn] = made[-count:], heard[-count:]
    hosted.close()
    best = least_units(told)
    alone = [np.where(is_alone(heard, best), made, np.nan) for made, heard in zip(times, told, strict=True)]
    return [
        float(np.nanmedian(each[:, ~np.isnan(each).all(axis=0)], axis=0).mean()) / 1e3
        if not np.isnan(each).all() else float("nan") for each in alone
    ]  # fmt: skip


def plugins(names: tuple[str, ...]) -> Iterator[tuple[PluginUse, str]]:
    """The uses to try, with where they lie: house processors of these names in the example, or Debian's."""
    if names:
        of = to_rehearse(msgspec.structs.replace(demo.session(), variants=()))
        uses = {use.card_key(): use for strip in of.strips for use in strip.uses() if use.label.split()[0] in names}
        yield from ((use, "") for use in uses.values())
        return
    uses = [PluginUse("x", PluginRef("lv2", identifier, identifier)) for identifier in REAL]
    installed = installed_for(uses)
    yield from ((use, path) for use in uses if (path := path_of(use, installed)) is not None)


def main() -> None:
    settle_on_core(max(os.sched_getaffinity(0)))
    words = sys.argv[1:]
    names = tuple(words[words.index("--house") + 1].split(",")) if "--house" in words else ()
    sizes = [int(word) for word in words if word.isdigit()] or [64, 256, 1024]
    print(f"{'plugin':40} {'buffer':>7}" + "".join(f"{name:>11}" for name, _, _ in WAYS))
    for use, path in plugins(names):
        for frames in sizes:
            figures = "".join(f"{each:11.1f}" for each in found(use, path, frames))
            print(f"{use.label[:40]:40} {frames:7d}{figures}", flush=True)


if __name__ == "__main__":
    main()
