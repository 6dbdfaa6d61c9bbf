"""Work of known size, and the loops that do so much of it in every block: compiled. Imported by whoever calls them, and
only then.
"""

from __future__ import annotations

from numba import njit

from ..native.clock import now, rest_until
from ..native.memory import flush_denormals, load_atomic, store_atomic

VALUES = 1024
# So many units are a piece of some microseconds, between two looks at the clock. One that takes so much longer (ns) was
# held up; less may be a core that computes slowly.
PIECE, HELD_UP_NS = 16, 50_000
WAITED, OWN, STOPPED = range(3)


@njit(nogil=True, cache=True, fastmath=True)
def unit(values):
    """A piece of arithmetic that fits the first cache, as filters' does."""
    for i in range(len(values)):
        x = values[i]
        values[i] = 0.5 * x + x * x * (0.25 - 0.125 * x)


@njit(nogil=True, cache=True)
def compute(values, units):
    """Computes so many units of work of known size, on `values` (VALUES, float32)."""
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

    Fills `seen` (B, 3: ns that it waited to be woken, its own work, held up within it).
    """
    flush_denormals()
    ended = 0
    for k in range(len(seen)):
        due = begin + k * period
        rest_until(due, clock, seen[0])
        begun = now(clock)
        before, held_up = begun, 0
        for _ in range(pieces):
            compute(values, PIECE)
            after = now(clock)
            if after - before > usual + HELD_UP_NS:
                held_up += after - before - usual
            before = after
        seen[k, WAITED], seen[k, OWN], seen[k, STOPPED] = begun - max(due, ended), before - begun - held_up, held_up
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
