"""The witness: known arithmetic, computed beside the plugins, that tells what the computer did meanwhile.

Steps that wait for each other take as long as the clock of the core says, and nothing else. Steps of several chains at
once take longer, too, when another thread on the same core takes its share of the units. Both use registers only: they
are the same whatever caches and vector units have been doing.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .clock import now

CHAIN_STEPS, PARALLEL_STEPS, TRIES = 250, 150, 2
# The columns of what it tells, in nanoseconds.
CLOCK, UNITS, COLUMNS = 0, 1, 2
# So often the witness is asked until what vectors do to the clock is over (about a millisecond); so many of the last
# count.
SETTLING, SETTLED = 400, 50
# Up to so many times the least that the units take at a clock the computer counts as undisturbed; and up to so many
# times the least of a chain of steps as at the same clock.
SAME_UNITS, SAME_CLOCK = 1.08, 1.04
# What they take at best is known from so many rows at least, by what such shares of so many in turn come below.
FEWEST, LEAST, IN_TURN = 40, (0.05, 0.1), 100
# A clock that is low in more than this share of a block's runs may be so in all of them by chance.
SELDOM = 0.5


@njit(nogil=True, cache=True)
def attest(told, clock):
    """Fills `told` (COLUMNS, ns) with the least time of each kind of arithmetic over a few tries; about two
    microseconds in all. `clock` is as in `native.clock`."""
    told[CLOCK] = told[UNITS] = 1 << 60
    x = np.float32(0.1)
    a = np.int64(told.ctypes.data)
    for _ in range(TRIES):
        begun = now(clock)
        for _ in range(CHAIN_STEPS):
            x = x * np.float32(0.5) + np.float32(0.25)
        told[CLOCK] = min(told[CLOCK], now(clock) - begun)
        begun = now(clock)
        b, c, d = a + 1, a + 2, a + 3
        for _ in range(PARALLEL_STEPS):
            a = (a * 6364136223846793005 + 1442695040888963407) ^ (a >> 7)
            b = (b * 6364136223846793005 + 1442695040888963409) ^ (b >> 9)
            c = (c * 6364136223846793005 + 1442695040888963411) ^ (c >> 11)
            d = (d * 6364136223846793005 + 1442695040888963413) ^ (d >> 13)
        told[UNITS] = min(told[UNITS], now(clock) - begun)
        a ^= b ^ c ^ d
    # What is computed is given back, or it would not be computed.
    return x + a


def looks(count: int) -> NDArray[np.int64]:
    """What it tells so many times in a row (count, COLUMNS, ns)."""
    told, clock = np.zeros((count, COLUMNS), np.int64), np.zeros(2, np.int64)
    _look_on(told, clock.ctypes.data)
    return told


@njit(nogil=True, cache=True)
def _look_on(told, clock):
    """Fills `told` (looks, COLUMNS, ns), one after the other."""
    for k in range(len(told)):
        attest(told[k], clock)


def look() -> tuple[float, float]:
    """What the chain of steps takes on this core at its clock (seconds), when nothing has been computed with vectors
    for as long as they may lower it, and nothing slept; and what the units take at best meanwhile (`least_units`)."""
    told = looks(SETTLING)
    return float(np.median(told[-SETTLED:, CLOCK])) / 1e9, least_units(told)


def least_units(told: NDArray[np.int64]) -> float:
    """What the units take at best, as times the chain of steps at the same clock (told: …, COLUMNS, ns; 0: nothing);
    infinite where too little was told.

    It is a fact of the processor, and whoever keeps the least of many of these must not come below it: then nothing
    would count as undisturbed any more. A row in which the clock rose tells of a chain at the low one and of units at
    the high one. So it is the least of each by itself: what a few of a hundred rows come below, for two such numbers,
    since one row may make all the difference for one of them; and the larger of both. Who shares the core pauses now
    and then: of every hundred rows in turn the least.
    """
    rows = told.reshape(-1, COLUMNS)
    rows = rows[(rows > 0).all(axis=1)]
    if len(rows) < FEWEST:
        return math.inf
    count = max(len(rows) // IN_TURN, 1)
    parts = rows[: len(rows) // count * count].reshape(count, -1, COLUMNS)
    least = np.quantile(parts, LEAST, axis=1)
    return float((least[..., UNITS] / least[..., CLOCK]).max(axis=0).min())


def is_alone(told: NDArray[np.int64], best: float) -> NDArray[np.bool_]:
    """Where no other thread took its share of the units (told: …, COLUMNS, ns; 0: nothing, which is no). `best` is what
    they take at best (see `least_units`)."""
    heard = (told > 0).all(axis=-1)
    return np.asarray(heard & (told[..., UNITS] <= SAME_UNITS * best * told[..., CLOCK]))


def least_clock(told: NDArray[np.int64], best: float) -> float:
    """What the chain of steps takes at the clock of a core that nobody shares (told: …, COLUMNS, ns), in seconds; 0 if
    it never was alone. What is computed with wide vectors, before it or by who shares the core, only lengthens it."""
    alone = told[is_alone(told, best)]
    return float(np.quantile(alone[:, CLOCK], 0.1)) / 1e9 if len(alone) else 0.0


def best_clock(told: NDArray[np.int64]) -> float:
    """What the chain of steps takes at the best clock that was told (told: …, COLUMNS, ns), in nanoseconds."""
    return float(np.quantile(told[..., CLOCK], 0.02))


def longer(told: NDArray[np.int64], best: float, where: NDArray[np.bool_]) -> float:
    """How many times as long known arithmetic took in these blocks as a rule (told: …, COLUMNS, ns; where: …): as it
    would at the best clock that was told, by itself. At least 1; 1 where nothing was told."""
    least, units = best_clock(told), told[where][:, UNITS]
    return max(float(np.median(units)) / (best * least), 1.0) if least > 0 and len(units) else 1.0


def at_full_clock(told: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Of runs of the same blocks, where nobody else had lowered the clock of the core (told: R, B, COLUMNS, ns).

    What the plugin itself does to it is the same in every run. What lowers it now here, now there is another who shares
    the core and computes with wide vectors; it stays low for most of a millisecond after that. A block in which it is
    low every time is the plugin's own doing, unless it is low in most of the others as well.
    """
    low = told[..., CLOCK] > SAME_CLOCK * best_clock(told)
    always = low.all(axis=0)
    by_chance = not always.all() and low[:, ~always].mean() > SELDOM
    return np.asarray(~low if by_chance else ~low | always)


def undisturbed(told: NDArray[np.int64], best: float) -> NDArray[np.bool_]:
    """In which blocks (B) no thread that told something (B, T, COLUMNS, ns; 0: nothing) had to share its units, and in
    those before and after neither: whoever shares them pauses now and then, and what is told behind a block may be such
    a pause. One of which nothing was told is as those around it.

    The clock says nothing here: what computes with wide vectors lowers it by itself.
    """
    heard = np.asarray((told > 0).all(axis=2))
    known = np.flatnonzero(heard.any(axis=1))
    if not len(known):
        return np.zeros(len(told), np.bool_)
    alone = np.all(is_alone(told, best) | ~heard, axis=1)[known]
    after = np.searchsorted(known, np.arange(len(told)))
    before = np.searchsorted(known, np.arange(len(told)), side="right") - 1
    last = len(known) - 1
    found = alone[np.clip(before, 0, last)] & alone[np.clip(after, 0, last)]
    around = np.pad(found, 1, mode="edge")
    return np.asarray(found & around[:-2] & around[2:])


def around_best(looks: NDArray[np.int64], every: int, blocks: int) -> NDArray[np.bool_]:
    """At which of so many blocks no look at the clock around it found it low (looks: C, T, ns, one before every so
    many blocks, after a rest; 0: none).

    After a rest only another lowers it, who shares the core: for most of a millisecond, so that what is told beside a
    block soon after it may be at its best again.
    """
    heard = looks > 0
    if not heard.any():
        return np.ones(blocks, np.bool_)
    low = (heard & (looks > SAME_CLOCK * np.quantile(looks[heard], 0.1))).any(axis=1)
    before = np.minimum(np.arange(blocks) // every, len(low) - 1)
    return np.asarray(~(low[before] | low[np.minimum(before + 1, len(low) - 1)]))


def usual(told: NDArray[np.int64], best: float) -> float:
    """How many times longer than at best the units take as a rule (told: …, COLUMNS, ns); 1 where nothing was told."""
    heard = told[(told > 0).all(axis=-1)]
    return max(float(np.median(heard[:, UNITS] / heard[:, CLOCK])) / best, 1.0) if len(heard) else 1.0
