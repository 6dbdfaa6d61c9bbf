"""What a plugin does to the clock of its core, found by a known chain of steps beside its blocks.

A processor takes a while to lower its clock for what computes with wide vectors, and half a millisecond or more to
raise it again: the block itself is hardly slower than before, and what comes after it is. In a row the blocks
themselves come after others.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..core.cards.slowing import Slowing
from ..native.clock import now
from ..native.memory import call2, flush_denormals
from ..native.witness import CLOCK, COLUMNS, SAME_CLOCK, attest, look
from .aside import let_go
from .formats.hosted import Hosted, Note
from .signal import again, blocks_in_cycle
from .timed import TimedLoop, give
from .witnessed import known_after

# The clock is lower where the chain takes so many times as long as before the block.
LOWER = 1.05
# After a block the clock is looked at for so long (ns), and on until it has been back for a while, but no longer than
# what any processor takes: a clock that stays where it is has been changed by something else.
LOOKED, BACK, LONGEST = 200_000, 20_000, 4_000_000
# Fewer looks than these at a lower clock are chance.
FEWEST = 8
# What lowers it for a shorter time than this (seconds, the mean over blocks) is not worth telling.
LEAST = 10e-6
# At least so many blocks are followed, and whole cycles; each so many times, and more where others are at it.
BLOCKS, ROUNDS, MOST_ROUNDS = 32, 3, 8
# Of so many of the blocks it is to be known what they do.
ENOUGH = 0.8
# Between rounds so long passes (seconds): others lower the clock for a while.
PAUSE = 0.05


@njit(nogil=True, cache=True)
def _follow(call, handle, first, rest, source, rows, inputs, frames, befores, by, lasts, clock):
    """Runs len(by) blocks from the beginning of the source, each after the clock is back.

    Fills `befores` (what the chain took before each, ns), `by` (how many times as long it took while the clock was
    lower) and `lasts` (ns from a block's end; 0: it was not, −1: it did not come back).
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
        before = befores[k] = told[CLOCK]
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
    hosted: Hosted, loop: TimedLoop, notes: tuple[Note, ...], rate: int, frames: int, alive: Callable[[], None],
    best: float = 0.0, most: int = MOST_ROUNDS,
) -> Slowing:  # fmt: skip
    """What blocks of so many samples do to the clock of this core (see `Slowing`). `alive` is called in between; `best`
    is what the chain has been seen to take at the full clock (seconds; 0: not known), and so many rounds are made at
    `most`."""
    cycle = blocks_in_cycle(frames, notes)
    blocks = -(-BLOCKS // cycle) * cycle
    befores, lasts = np.zeros((2, MOST_ROUNDS, blocks), np.int64)
    by, clock = np.ones((MOST_ROUNDS, blocks)), np.zeros(2, np.int64)
    rests, rows = [], []
    first = loop.fill(frames, notes)
    for number in range(most):
        # What it remembers stays full from one round to the next.
        loop.rewind()
        let_go()
        look()
        _follow(
            hosted.call, hosted.handle, hosted.argument(frames, first), hosted.argument(frames), loop.source, loop.rows,
            hosted.inputs, frames, befores[number], by[number], lasts[number], clock.ctypes.data,
        )  # fmt: skip
        first = again(notes)
        rest, row = _in_a_row(loop, first, frames, cycle)
        rests.append(rest)
        rows.append(row)
        alive()
        done = slice(number + 1)
        full = best or min(rests)
        found = followed(befores[done], by[done], lasts[done], full)
        heard = [row for rest, row in zip(rests, rows, strict=True) if rest <= SAME_CLOCK * full]
        is_known = found.known >= ENOUGH and len(heard) > 0
        # Of those that are not known yet as many would be in the next rounds as in these.
        likely = known_after(found.known, MOST_ROUNDS / (number + 1))
        if number + 1 >= ROUNDS and (is_known or likely < ENOUGH):
            break
        time.sleep(PAUSE)
    if not heard:
        # It has not been at its full clock once: this computer has another one by now, as those that get warm.
        full, heard = min(rests), rows
        found = followed(befores[done], by[done], lasts[done], full)
    slower = min(heard) / full
    return Slowing(rate, frames, found.by, found.seconds, slower if slower > LOWER else 1.0, found.known)


class Followed(NamedTuple):
    """What blocks do to the clock: steps take `by` times as long for `seconds` after one (the mean), `known` of a share
    of all (0 … 1)."""

    by: float
    seconds: float
    known: float


def followed(
    befores: NDArray[np.int64], by: NDArray[np.float64], lasts: NDArray[np.int64], full: float
) -> Followed:  # fmt: skip
    """Of R rounds of the same B blocks (R, B; see `_follow`), on a core whose chain takes `full` seconds at its full
    clock. What the plugin does it does in each of them; others, who share the core, lower its clock in some. So of each
    block the shortest counts, of the rounds in which the clock was not low before it: then nothing is seen of what the
    block does."""
    heard = (befores <= SAME_CLOCK * full * 1e9) & (lasts >= 0)
    least = np.where(heard, lasts, np.iinfo(np.int64).max)
    round_of, known = least.argmin(axis=0), heard.any(axis=0)
    places = np.arange(lasts.shape[1])
    last = lasts[round_of, places]
    seconds = float(last[known].mean()) / 1e9 if known.any() else 0.0
    if seconds < LEAST:
        return Followed(1.0, 0.0, float(known.mean()))
    return Followed(float(np.median(by[round_of, places][known & (last > 0)])), seconds, float(known.mean()))


def _in_a_row(loop: TimedLoop, first: tuple[Note, ...], frames: int, blocks: int) -> tuple[float, float]:
    """What the chain takes at rest, and while blocks follow each other (seconds); `first` are the notes of the first.
    """
    loop.rewind()
    told = np.zeros((blocks, COLUMNS), np.int64)
    # At rest first: this program has just computed with vectors of its own. And after it: the clock of the whole
    # processor changes, too.
    before, _ = look()
    loop.run(frames, blocks, first, told=told)
    return max(before, look()[0]), float(np.median(told[:, CLOCK])) / 1e9


def warm_up() -> None:
    """Compiles the loop, or loads it as compiled before: it plays nothing."""
    sound, rows, clock = np.zeros((1, 16), np.float32), np.zeros(1, np.int64), np.zeros(2, np.int64)
    nothing, none = np.zeros(0), np.zeros(0, np.int64)
    _follow(0, 0, 0, 0, sound, rows, sound, 16, none, nothing, none, clock.ctypes.data)
