"""What a plugin takes when it is called once a deadline, as in a session, against blocks in a row.

Until it is called again the core computes something else. Where other machines or programs share the processor, they
have taken the caches meanwhile; where none do, it is as cheap as in a row.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..core.cards.card import Paced
from ..native.clock import now
from ..native.memory import call2, flush_denormals
from ..native.witness import CLOCK, COLUMNS, UNITS, at_full_clock, attest, is_alone, least_units, longer
from .aside import let_go
from .formats.hosted import Hosted, Note
from .signal import again, blocks_in_cycle
from .timed import TimedLoop, give
from .witnessed import has_settled, known_after, own_times

PACED_SIZES = (64, 512)
# Each way is played for so many whole cycles, in turns, and more where others share the core meanwhile. For each place
# in the cycle the median counts of the blocks that shared it with nobody: a burst counts as often as it comes, and what
# others have taken from the caches as much as they do as a rule. The least would be a block in which they took nothing.
CYCLES, MOST_CYCLES = 4, 12
# So many are enough where what a block takes more is known by then to this share of it: the cycle of an instrument is
# as long as three of others, and has as many places.
FEWEST, SURE = 2, 0.02
# Where more would not tell what others did, they are enough when the last ones have moved by no more than this share.
ROUGHLY = 0.02
# So many of the places are to have such blocks in both ways; with fewer than the least, the median of all counts. It is
# not gone on where not even those are to be had.
ENOUGH, LEAST_KNOWN = 0.8, 0.25
# More of them are played for no longer than so many seconds, and than so many times what a cell is given.
SECONDS, CELLS = 3.0, 30
# What is computed with in between: so many values, which stay in the nearest caches, so many at a time.
VALUES, STEP = 8192, 1024
# Blocks in a row are no further apart, unless something interrupts them (ns); nor does one take so many times as long
# as the least in the same place, and so much more.
BETWEEN_NS, HELD_UP = 50_000, 4


@njit(nogil=True, cache=True)
def keep_awake(values):
    """Computes with vectors of whole numbers (n, int32): they keep the core's vector units awake, and do not lower its
    clock as those of multiplications do."""
    for i in range(len(values)):
        values[i] = (values[i] ^ np.int32(85)) + np.int32(3)


@njit(nogil=True, cache=True)
def _once_each(call, handle, first, rest, source, rows, at, inputs, frames, period, times, values, told, clock):
    """Runs len(times) blocks, each a period after the one before (ns; 0: in a row), and fills times (ns). Returns
    where in `source` the next one begins.

    In between the core computes with vectors (see `keep_awake`): what its units for them take to wake up is paid once a
    block, by whoever comes first, and not by every plugin. Before and after each block the witness is asked (`told`:
    blocks, COLUMNS, ns: what it tells of the worse of both); it is not where something had come between a block in a
    row and the one before.
    """
    flush_denormals()
    first_look = np.zeros(COLUMNS, np.int64)
    length, argument, place = source.shape[1], first, 0
    ended = last = now(clock)
    for k in range(len(times)):
        # By the one before: what is late is not made up for, which would be blocks in a row.
        while now(clock) < last + period:
            keep_awake(values[place : place + STEP])
            place = (place + STEP) % VALUES
        if at + frames > length:
            at = 0
        give(source, rows, at, inputs, frames)
        at += frames
        if period > 0:
            attest(first_look, clock)
        before = last = now(clock)
        call2(call, handle, argument)
        late = before - ended > BETWEEN_NS
        ended = now(clock)
        times[k] = ended - before
        if period > 0 or not late:
            attest(told[k], clock)
            if first_look[UNITS] * told[k, CLOCK] > told[k, UNITS] * first_look[CLOCK]:
                told[k] = first_look
            ended = now(clock)
        if period == 0:
            # What came after a block in a row came before the next.
            first_look[:] = told[k]
        argument = rest
    return at


class Turns:
    """Plays one plugin in a row and once a deadline in turns, from one state on: what it remembers is full."""

    def __init__(self, hosted: Hosted, loop: TimedLoop, notes: tuple[Note, ...], rate: int, frames: int) -> None:
        self._hosted, self._loop, self._notes, self._frames = hosted, loop, notes, frames
        self._period = round(frames / rate * 1e9)
        self._values, self._clock = np.ones(VALUES, np.int32), np.zeros(2, np.int64)
        self._at, self._begun = 0, False
        self._first = loop.fill(frames, notes)

    def play(self, is_paced: bool) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The block times of one cycle (ns, the loop's own included), and what the witness told after each.

        In a row some blocks go before it, since this program has done something else since the last one.
        """
        let_go()
        if not is_paced:
            self._run(blocks_in_cycle(self._frames), (), 0)
        first = again(self._notes) if self._begun else self._first
        self._begun = True
        cycle = blocks_in_cycle(self._frames, self._notes)
        return self._run(cycle, first, self._period if is_paced else 0)

    def _run(
        self, blocks: int, notes: tuple[Note, ...], period: int
    ) -> tuple[NDArray[np.int64], NDArray[np.int64]]:  # fmt: skip
        """So many blocks, the first with these notes, each a period (ns) after the one before."""
        hosted, loop = self._hosted, self._loop
        times, told = np.zeros(blocks, np.int64), np.zeros((blocks, COLUMNS), np.int64)
        self._at = _once_each(
            hosted.call, hosted.handle, hosted.argument(self._frames, notes), hosted.argument(self._frames),
            loop.source, loop.rows, self._at, hosted.inputs, self._frames, period, times, self._values, told,
            self._clock.ctypes.data,
        )  # fmt: skip
        return times, told


class Both(NamedTuple):
    """What a block takes as a rule in a `row` and once a deadline (`paced`, ns): the mean over the places in the cycle,
    of those the median of which both are known without others, of the rest the least (see `own_times`): a burst, or a
    note that is struck, may lie in either. `known` is which share of all places is (0 … 1). Where it is too
    little, it is the mean over all, in which the witness took `shared` times as long as at best. `likely` is which
    share would be known after the most cycles, if others go on as in these. `error` is the standard error of what a
    block takes more once a deadline, by how that differs from place to place (ns)."""

    row: float
    paced: float
    known: float
    shared: float
    likely: float
    error: float


def both(times: NDArray[np.int64], told: NDArray[np.int64], units: float) -> Both:
    """Of cycles of B blocks that were played N times each way (times: 2, N, B, ns; told: 2, N, B, COLUMNS, ns). `units`
    is what they have been seen to take at best on this core: others may have shared it in every block of these."""
    best = min(least_units(told), units)
    heard = np.asarray((told > 0).all(axis=-1))
    # Of what was not asked nothing is known: as if it had been at the lowest clock.
    clocked = np.where(heard[..., None], told, told.max(initial=0))
    alone = np.array([is_alone(each, best) & at_full_clock(full) for each, full in zip(told, clocked, strict=True)])
    # What is told behind a block says nothing of one that was held up itself.
    through = times <= HELD_UP * times.min(axis=1, keepdims=True) + BETWEEN_NS
    alone &= through
    places = np.asarray(alone.any(axis=1).all(axis=0))
    known, shared = float(places.mean()), 1.0
    likely = math.prod(known_after(float(each.mean()), MOST_CYCLES) for each in alone)
    if known < LEAST_KNOWN:
        shared = longer(told[heard], best, ~alone[heard])
        alone, places[:] = through, True
    row, paced = (_usual(each, own, places) for each, own in zip(times, alone, strict=True))
    more = (paced - row)[places]
    error = float(more.std()) / math.sqrt(len(more)) if len(more) else math.inf
    return Both(float(row.mean()), float(paced.mean()), known, shared, likely, error)


def _usual(
    times: NDArray[np.int64], alone: NDArray[np.bool_], places: NDArray[np.bool_]
) -> NDArray[np.float64]:  # fmt: skip
    """What the blocks of a cycle take as a rule (B, ns), of N of them (times: N, B; alone: N, B), some of whose places
    (B) are known."""
    found = own_times(times, alone).astype(np.float64)
    found[places] = np.nanmedian(np.where(alone, times, np.nan)[:, places], axis=0)
    return found


def _have_settled(so_far: Sequence[Both]) -> bool:
    """Whether the last cycles have hardly moved what a block takes in a row, nor what it does once a deadline."""
    return all(has_settled([getattr(each, way) for each in so_far], ROUGHLY) for way in ("row", "paced"))


def find_paced(
    hosted: Hosted, loop: TimedLoop, notes: tuple[Note, ...], rate: int, frames: int, overhead: int,
    alive: Callable[[], None], units: float = math.inf, of_cell: float = math.inf,
) -> Paced:  # fmt: skip
    """The mean cost of a block of so many samples both ways (see `Paced`). `overhead` is the loop's own time (ns);
    `alive` is called before every cycle; for `units` see `both`. `of_cell` is how many seconds a cell is
    given."""
    turns = Turns(hosted, loop, notes, rate, frames)
    turns.play(False)
    times: tuple[list[NDArray[np.int64]], ...] = ([], [])
    told: tuple[list[NDArray[np.int64]], ...] = ([], [])
    until = time.monotonic() + min(SECONDS, CELLS * of_cell)
    so_far: list[Both] = []
    for number in range(MOST_CYCLES):
        for way in (False, True):
            alive()
            made, heard = turns.play(way)
            times[way].append(made)
            told[way].append(heard)
        found = both(np.array(times), np.array(told), units)
        so_far.append(found)
        are_enough = number + 1 >= CYCLES
        is_sure = number + 1 >= FEWEST and found.error <= SURE * found.row
        if found.known >= ENOUGH and (are_enough or is_sure):
            break
        in_vain = found.likely < LEAST_KNOWN and _have_settled(so_far)
        if are_enough and (in_vain or time.monotonic() > until):
            break
    row, paced = (max(each - overhead, 0.0) / 1e9 for each in (found.row, found.paced))
    return Paced(rate, frames, row, paced, found.shared)


def warm_up() -> None:
    """Compiles the loop, or loads it as compiled before: it plays nothing."""
    sound, rows, values = np.zeros((1, 16), np.float32), np.zeros(1, np.int64), np.ones(VALUES, np.int32)
    clock, nobody, told = np.zeros(2, np.int64), np.zeros(0, np.int64), np.zeros((0, COLUMNS), np.int64)
    _once_each(0, 0, 0, 0, sound, rows, 0, sound, 16, 0, nobody, values, told, clock.ctypes.data)
