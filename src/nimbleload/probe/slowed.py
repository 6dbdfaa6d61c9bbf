"""What a plugin does to the clock of its core, found by a known chain of steps beside its blocks.

A processor takes a while to lower its clock for what computes with wide vectors, and half a millisecond or more to
raise it again: the block itself is hardly slower than before, and what comes after it is. In a row the blocks
themselves come after others.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numba import njit

from ..core.cards.slowing import Slowing
from ..native.clock import now
from ..native.memory import call2, flush_denormals
from ..native.witness import CLOCK, COLUMNS, attest, look
from .aside import let_go
from .formats.hosted import Hosted, Note
from .signal import CHORD_CYCLE, CYCLE
from .timed import TimedLoop, give

# The clock is lower where the chain takes so many times as long as before the block.
LOWER = 1.05
# After a block the clock is looked at for so long (ns), and on until it has been back for a while, but no longer than
# what any processor takes: a clock that stays where it is has been changed by something else.
LOOKED, BACK, LONGEST = 200_000, 20_000, 4_000_000
# Fewer looks than these at a lower clock are chance.
FEWEST = 8
# What lowers it for a shorter time than this (seconds, the mean over blocks) is not worth telling.
LEAST = 10e-6
# At least so many blocks are followed, and whole cycles.
BLOCKS = 32


@njit(nogil=True, cache=True)
def _follow(call, handle, first, rest, source, rows, inputs, frames, by, lasts, clock):
    """Runs len(by) blocks from the beginning of the source, each after the clock is back.

    Fills `by` (how many times as long the chain took while it was lower) and `lasts` (ns from a block's end; 0: it was
    not, −1: it did not come back).
    """
    flush_denormals()
    told = np.zeros(COLUMNS, np.int64)
    argument, at = first, 0
    for k in range(len(by)):
        if at + frames > source.shape[1]:
            at = 0
        give(source, rows, at, inputs, frames)
        at += frames
        attest(told, clock)
        before = told[CLOCK]
        call2(call, handle, argument)
        ended = now(clock)
        argument = rest
        last, slower, looks = np.int64(0), 0.0, 0
        while True:
            attest(told, clock)
            since = now(clock) - ended
            if told[CLOCK] > LOWER * before:
                last = since
                slower += told[CLOCK] / before
                looks += 1
            elif since > max(LOOKED, last + BACK):
                break
            if since > LONGEST:
                last = -1
                break
        if looks < FEWEST and last > 0:
            last = 0
        by[k], lasts[k] = slower / max(looks, 1), last


def find_slowing(
    hosted: Hosted, loop: TimedLoop, notes: tuple[Note, ...], rate: int, frames: int, alive: Callable[[], None]
) -> Slowing:
    """What blocks of so many samples do to the clock of this core (see `Slowing`). `alive` is called in between."""
    cycle = max((CHORD_CYCLE if notes else CYCLE) // frames, 1)
    blocks = -(-BLOCKS // cycle) * cycle
    by, lasts, clock = np.ones(blocks), np.zeros(blocks, np.int64), np.zeros(2, np.int64)
    first = loop.fill(frames, notes)
    let_go()
    look()
    _follow(
        hosted.call, hosted.handle, hosted.argument(frames, first), hosted.argument(frames), loop.source, loop.rows,
        hosted.inputs, frames, by, lasts, clock.ctypes.data,
    )  # fmt: skip
    alive()
    known, lower = lasts >= 0, lasts > 0
    seconds = float(lasts[known].mean()) / 1e9 if known.any() else 0.0
    if seconds < LEAST:
        by, seconds = np.ones(blocks), 0.0
    else:
        by = by[lower]
    return Slowing(rate, frames, float(np.median(by)), seconds, _in_a_row(loop, notes, frames, cycle))


def _in_a_row(loop: TimedLoop, notes: tuple[Note, ...], frames: int, blocks: int) -> float:
    """How many times as long as at rest the chain takes while blocks follow each other."""
    first = loop.fill(frames, notes)
    told = np.zeros((blocks, COLUMNS), np.int64)
    # At rest first: this program has just computed with vectors of its own. And after it: the clock of the whole
    # processor changes, too.
    before, _ = look()
    loop.run(frames, blocks, first, told=told)
    slower = float(np.median(told[:, CLOCK])) / 1e9 / max(before, look()[0])
    return slower if slower > LOWER else 1.0


def warm_up() -> None:
    """Compiles the loop, or loads it as compiled before: it plays nothing."""
    sound, rows, clock = np.zeros((1, 16), np.float32), np.zeros(1, np.int64), np.zeros(2, np.int64)
    nothing = np.zeros(0)
    _follow(0, 0, 0, 0, sound, rows, sound, 16, nothing, nothing.astype(np.int64), clock.ctypes.data)
