"""Peaks: how bad a block gets now and then, when the bursts of several plugins fall together.

Many blocks are drawn from the plugins' own measured sequences, plus what the machine adds, and go through the same
block computation as everything else. All plugins are read at the same place of their sequences: a host starts them
together and calls them block by block, so what works every so many blocks stays in step (a rehearsal shows it).
Seeded: the same session gives the same figures.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..cards.card import Cell, Condition, CostCard
from ..piece.moments import FEWER, FULL, SILENT
from ..session.computer import Machine, deadline
from ..session.plugins import CardKey
from .costs import Costs, at_moments, beside_at, use_seconds
from .load_map import played_rows
from .prepared import Prepared

DRAWS = 2000
SEED = 1887
BAD = 99.0
TOLD = 5
LONGEST = 1 << 40
# What each block of a sequence takes beyond its mean (seconds; None: nothing), and the mean of the machine's noise.
Shape = tuple[NDArray[np.float64] | None, float]


class Burst(NamedTuple):
    """A plugin that makes the peak: its use's place among the session's uses, and how much more than usual it takes.

    `extra` (seconds) is its mean cost in the worst hundredth of the blocks, less its mean cost.
    """

    use: int
    extra: float


class Peaks(NamedTuple):
    """What blocks come to at one moment and buffer size, as fractions of the deadline.

    `typical` is the median, `bad` what one block in a hundred reaches, `worst` the highest of all drawn ones;
    `dropouts` how many blocks a minute are expected to miss the deadline. `bursts` come worst first. `typical_row` and
    the others (S, seconds) are the strips' costs in a block of that kind.
    """

    buffer: int
    typical: float
    bad: float
    worst: float
    dropouts: float
    bursts: tuple[Burst, ...]
    typical_row: NDArray[np.float64]
    bad_row: NDArray[np.float64]
    worst_row: NDArray[np.float64]


def draw(
    prepared: Prepared, machine: Machine, of: Costs, states: NDArray[np.int16], draws: int = DRAWS, seed: int = SEED
) -> Peaks:
    """Peaks of one moment (states: S) at the buffer size of the costs `of`."""
    rows, columns = drawn_costs(prepared, machine, of, states, draws, seed)
    found = played_rows(prepared, machine, rows, np.broadcast_to(beside_at(of, states), rows.shape))
    loads = found.makespan / deadline(of.buffer, prepared.session.rate)
    rows = rows * found.factor[:, None]
    typical, bad = np.percentile(loads, (50, BAD), method="nearest")
    order = np.argsort(loads, kind="stable")

    def like(load: float) -> NDArray[np.float64]:
        row: NDArray[np.float64] = rows[order[min(int(np.searchsorted(loads[order], load)), len(order) - 1)]]
        return row

    per_minute = 60 * prepared.session.rate / of.buffer
    high = loads >= bad
    return Peaks(
        of.buffer, float(typical), float(bad), float(loads.max()), float(np.mean(loads > 1.0) * per_minute),
        _bursts(columns, high), like(typical), like(bad), rows[order[-1]],
    )  # fmt: skip


def bad_loads(
    prepared: Prepared, machine: Machine, of: Costs, rows: NDArray[np.int16], draws: int, seed: int = SEED
) -> NDArray[np.float64]:
    """What one block in a hundred reaches for each row of states (D, S), as fractions; few draws for each.

    What the plugins do beyond their means is drawn once, and used for all rows.
    """
    uses, rng = prepared.uses, np.random.default_rng(seed)
    shape = _shapes(prepared, of)
    seconds = use_seconds(prepared, of)
    beyond = np.zeros((len(of.by_state), rows.shape[1], draws))
    places = rng.integers(LONGEST, size=draws)
    for use in np.flatnonzero(uses.live):
        key, strip = uses.keys[uses.card[use]], uses.strip[use]
        for state in (SILENT, FULL):
            times = _drawn(shape(key, state, int(strip)), places, rng)
            if times is None:
                continue
            beyond[state, strip] += times / machine.speed
            if state == FULL and len(beyond) > FEWER:
                # With fewer notes all that a block takes beyond its mean shrinks with the mean.
                each = seconds[FULL:, use]
                beyond[FEWER:, strip] += (each[1:, None] / each[0] if each[0] > 0 else 1.0) * times / machine.speed
    block, found = deadline(of.buffer, prepared.session.rate), np.zeros(len(rows))
    strips = np.arange(rows.shape[1])
    for k, states in enumerate(rows):
        drawn = np.maximum(at_moments(of, states) + beyond[states, strips].T, 0.0)
        made = played_rows(prepared, machine, drawn, np.broadcast_to(beside_at(of, states), drawn.shape))
        found[k] = np.percentile(made.makespan, BAD, method="nearest") / block
    return found


def _bursts(columns: dict[int, NDArray[np.float64]], high: NDArray[np.bool_]) -> tuple[Burst, ...]:
    found = [Burst(use, float(times[high].mean() - times.mean())) for use, times in columns.items()]
    return tuple(sorted((b for b in found if b.extra > 0), key=lambda b: -b.extra)[:TOLD])


def drawn_costs(
    prepared: Prepared, machine: Machine, of: Costs, states: NDArray[np.int16], draws: int, seed: int
) -> tuple[NDArray[np.float64], dict[int, NDArray[np.float64]]]:
    """The strips' costs in drawn blocks (draws, S, seconds), and those of the plugins that vary, by use number.

    Means are those of `of`: only what a plugin does more or less than its mean is drawn.
    """
    uses, rng = prepared.uses, np.random.default_rng(seed)
    rows = np.repeat(at_moments(of, states)[None, :], draws, axis=0)
    columns: dict[int, NDArray[np.float64]] = {}
    places = rng.integers(LONGEST, size=draws)
    shape = _shapes(prepared, of)
    for use in np.flatnonzero(uses.live):
        strip = int(uses.strip[use])
        key = uses.keys[uses.card[use]]
        times = _drawn(shape(key, int(states[strip]), strip), places, rng)
        if times is None:
            continue
        times = times / machine.speed
        rows[:, strip] += times
        columns[int(use)] = times
    return np.maximum(rows, 0.0), columns


def _drawn(shape: Shape, places: NDArray[np.int64], rng: np.random.Generator) -> NDArray[np.float64] | None:
    """What a plugin takes beyond its mean in the blocks at these places (seconds), and the machine; None if nothing."""
    sequence, jitter = shape
    if sequence is None and jitter <= 0:
        return None
    times = np.zeros(len(places)) if sequence is None else sequence[places % len(sequence)]
    return times + rng.exponential(jitter, len(places)) - jitter if jitter > 0 else times


def _shapes(prepared: Prepared, of: Costs) -> Callable[[CardKey, int, int], Shape]:
    """For a key, a state and a strip: what each block of its sequence takes beyond the mean, and the mean jitter.

    In seconds. Company makes bursts dearer by the same share as the mean, and fewer notes cheaper.
    """
    known: dict[tuple[CardKey, int, bool], Shape] = {}
    rate, buffer = prepared.session.rate, of.buffer
    numbers = {key: k for k, key in enumerate(prepared.uses.keys)}

    def shape(key: CardKey, state: int, strip: int) -> Shape:
        live = bool(prepared.live[strip])
        if (key, state, live) not in known:
            condition: Condition = "silent" if state == SILENT else "sounding"
            card = prepared.cards.get(key)
            cell = _nearest(card, rate, buffer, condition) if card is not None else None
            if card is None or cell is None:
                known[key, state, live] = (None, 0.0)
            else:
                alone = card.cost(rate, buffer, condition).seconds
                among = float((of.each if live else of.ahead).seconds[state, numbers[key]])
                known[key, state, live] = _beyond(cell, buffer, among / alone if alone > 0 else 1.0)
        return known[key, state, live]

    return shape


def _nearest(card: CostCard, rate: int, buffer: int, condition: Condition) -> Cell | None:
    """The cell whose sequence shows best how a plugin's cost varies at this size: the exact one, else the nearest."""
    cells = [c for c in card.cells if c.condition == condition and len(c.sequence) > 4]
    return min(cells, key=lambda c: (c.rate != rate, abs(np.log2(c.buffer / buffer))), default=None)


def _beyond(cell: Cell, buffer: int, dearer: float) -> Shape:
    own = cell.sequence_ns() / 1e9
    beyond = (own - own.mean()) * (buffer / cell.buffer * dearer)
    return (beyond if np.ptp(own) > 1e-7 else None), cell.jitter * buffer / cell.buffer
