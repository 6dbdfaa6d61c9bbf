"""Work of known size, and the loops that do so much of it in every block: compiled. Imported by whoever calls them, and
only then.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..native.clock import now, rest_until
from ..native.memory import flush_denormals, load_atomic, store_atomic

# What a unit computes, and with what: values in vectors; a block of stereo through filters in a row, which wait for
# each other; lines of a store that no cache of a core's own holds (4 MB), as delays walk through it.
VALUES, FRAMES, FILTERS, LINE, TAPS, STORED = 1024, 32, 4, 64, 4, 1 << 20
# So many units are a piece of some microseconds, between two looks at the clock. One that takes so much longer (ns) was
# held up; less may be a core that computes slowly.
PIECE, HELD_UP_NS = 8, 50_000
WAITED, OWN, STOPPED, LEAST, COLUMNS = range(5)
# Where in the material each lies; behind it the place in the store.
SOUND, STATES, STORE = VALUES, VALUES + 2 * FRAMES, VALUES + 2 * FRAMES + 4 * FILTERS
PLACE = STORE + STORED


def material() -> NDArray[np.float32]:
    """What a thread computes with, touched once."""
    made = np.full(PLACE + 1, 0.5, np.float32)
    made[PLACE] = 0
    return made


@njit(nogil=True, cache=True, fastmath=True)
def _vectors(values):
    for i in range(len(values)):
        x = values[i]
        values[i] = 0.5 * x + x * x * (0.25 - 0.125 * x)


@njit(nogil=True, cache=True)
def _filters(sound, states):
    for i in range(FRAMES):
        for channel in range(2):
            x = np.float32(0.5) + sound[2 * i + channel]
            for k in range(FILTERS):
                at = 4 * k + 2 * channel
                y = np.float32(0.2) * x + states[at]
                states[at] = np.float32(0.3) * x - np.float32(0.4) * y + states[at + 1]
                states[at + 1] = np.float32(0.1) * x - np.float32(0.2) * y
                x = y
            sound[2 * i + channel] = x


@njit(nogil=True, cache=True, fastmath=True)
def _lines(store, line, values):
    for tap in range(TAPS):
        at = line * LINE + tap * (STORED // TAPS)
        for i in range(LINE):
            store[at + i] = np.float32(0.5) * store[at + i] + values[i]


@njit(nogil=True, cache=True)
def unit(material):
    """A piece of what plugins do: vectors, filters, delays."""
    _vectors(material[:VALUES])
    _filters(material[SOUND:STATES], material[STATES:STORE])
    line = int(material[PLACE])
    _lines(material[STORE:PLACE], line, material[:LINE])
    material[PLACE] = (line + 1) % (STORED // TAPS // LINE)


@njit(nogil=True, cache=True)
def compute(values, units):
    """Computes so many units of work of known size, on `values` (see `material`)."""
    for _ in range(units):
        unit(values)


@njit(nogil=True, cache=True)
def timed(values, units, clock):
    """How long so many units take (ns)."""
    begun = now(clock)
    compute(values, units)
    return now(clock) - begun


@njit(nogil=True, cache=True)
def hold(begin, period, pieces, usual, values, clock, seen):
    """Computes so many pieces of work in each block of `period` ns, from `begin` on, each of which takes `usual` ns.

    Fills `seen` (B, COLUMNS: ns that it waited to be woken, its own work, held up within it, its quickest piece).
    """
    flush_denormals()
    ended = 0
    for k in range(len(seen)):
        due = begin + k * period
        rest_until(due, clock, seen[0])
        begun = now(clock)
        before, held_up, least = begun, 0, period
        for _ in range(pieces):
            compute(values, PIECE)
            after = now(clock)
            least = min(least, after - before)
            if after - before > usual + HELD_UP_NS:
                held_up += after - before - usual
            before = after
        seen[k, WAITED], seen[k, OWN], seen[k, STOPPED] = begun - max(due, ended), before - begun - held_up, held_up
        seen[k, LEAST] = least
        ended = before


@njit(nogil=True, cache=True)
def go_on(begin, period, control, told, values, clock, like):
    """Computes `control[0]` units in each block of `period` ns from `begin` on, until `control[1]` is set.

    Tells its blocks, those that were late, the latest end (ns after its begin), and what all took together (ns) in
    `told`. A block that was missed is not made up for.
    """
    flush_denormals()
    k = 0
    while load_atomic(control + 8) == 0:
        rest_until(begin + k * period, clock, like)
        woken = now(clock)
        compute(values, load_atomic(control))
        ended = now(clock)
        took = ended - (begin + k * period)
        store_atomic(told, load_atomic(told) + 1)
        if took > period:
            store_atomic(told + 8, load_atomic(told + 8) + 1)
        store_atomic(told + 16, max(load_atomic(told + 16), took))
        store_atomic(told + 24, load_atomic(told + 24) + ended - woken)
        k += max(took // period, 1)
