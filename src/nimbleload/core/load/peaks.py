"""Peaks: how bad a block gets now and then, when the bursts of several plugins fall together.

Blocks are drawn from the plugins' own measured sequences, over whole periods of them, plus what interrupts the
computer, and go through the same block computation as everything else. All plugins are read at the same place of their
sequences: a host starts them together and calls them block by block, so what works every so many blocks stays in step
(a rehearsal shows it). Seeded: the same session gives the same figures.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..cards.card import Cell, CostCard
from ..piece.moments import FULL, SILENT
from .case import Case
from .interruptions import drawn, interruptions
from .load_map import hundredth

DRAWS = 2000
# No more places of the sequences than this are drawn, however long they are.
PLACES = 4096
SEED = 1887
TOLD = 5
# What blocks take more or less counts as the same while no strip is further off than this share of the deadline.
ALIKE = 0.002
# When every moment of the piece is drawn so many blocks with interruptions stand for all, and so many different ones
# without; so many moments at once.
HIT, DIFFERENT, AT_ONCE = 24, 16, 32


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
    of: Case, states: NDArray[np.int16], draws: int = DRAWS, seed: int = SEED, interrupted: bool = True
) -> Peaks:  # fmt: skip
    """Peaks of one moment (states: S). As many blocks are drawn as asked for, or as make whole periods; with what
    interrupts them, or as they are where nothing does."""
    rows, columns = drawn_costs(of, states, draws, seed, interrupted)
    aside = np.broadcast_to(of.aside(states), len(rows))
    found = of.played_rows(rows, np.broadcast_to(of.beside(states), rows.shape), aside)
    loads = found.makespan / of.deadline
    rows = rows * found.factor[:, None]
    typical, bad = float(np.percentile(loads, 50, method="nearest")), hundredth(loads)
    order = np.argsort(loads, kind="stable")

    def at(place: int) -> NDArray[np.float64]:
        # By itself: what is kept of it would keep all that were drawn.
        row: NDArray[np.float64] = rows[order[place]].copy()
        return row

    def like(load: float) -> NDArray[np.float64]:
        return at(min(int(np.searchsorted(loads[order], load)), len(order) - 1))

    per_minute = 60 / of.deadline
    high = loads >= bad
    return Peaks(
        of.buffer, typical, bad, float(loads.max()), float(np.mean(loads > 1.0) * per_minute),
        _bursts(columns, high), like(typical), like(bad), at(-1),
    )  # fmt: skip


def _bursts(columns: dict[int, NDArray[np.float64]], high: NDArray[np.bool_]) -> tuple[Burst, ...]:
    found = [Burst(use, float(times[high].mean() - times.mean())) for use, times in columns.items()]
    return tuple(sorted((b for b in found if b.extra > 0), key=lambda b: -b.extra)[:TOLD])


def drawn_costs(
    of: Case, states: NDArray[np.int16], draws: int, seed: int, interrupted: bool = True
) -> tuple[NDArray[np.float64], dict[int, NDArray[np.float64]]]:
    """The strips' costs in drawn blocks (draws, S, seconds), and those of the plugins that vary, by use number.

    The means are those of the case: what a plugin does more or less than its mean is drawn, and what interrupts.
    """
    rng = np.random.default_rng(seed)
    shapes = _Shapes(of)
    uses = of.prepared.uses
    varying = {}
    for use in np.flatnonzero(uses.live).tolist():
        times = shapes.of_use(use, int(states[uses.strip[use]]))
        if times is not None:
            varying[use] = times
    longest = min(max((len(times) for times in varying.values()), default=1), PLACES)
    # Whole periods of the longest sequence: a burst that comes every so often counts as often as it comes.
    places = np.arange(longest * max(round(draws / longest), 1))
    own = np.repeat(_own_rows(of, states)[None, :], len(places), axis=0)
    columns = {use: times[places % len(times)] for use, times in varying.items()}
    for use, times in columns.items():
        own[:, uses.strip[use]] += times
    own = np.maximum(own, 0.0)
    return (own + drawn(interruptions(of), own, rng) if interrupted else own), columns


def _own_rows(of: Case, states: NDArray[np.int16]) -> NDArray[np.float64]:
    """What strips cost without what the machine adds by interrupting (…, S, seconds)."""
    return of.rows(states) / (1 + of.costs.interrupted)


def bad_loads(of: Case, seed: int = SEED, go_on: Callable[[], object] = lambda: None) -> NDArray[np.float64]:
    """What one block in a hundred reaches in each different moment of the case (D), as fractions.

    All places of the sequences count, those alike once with their number; of interruptions a few stand for all.
    `go_on` is called now and then, and may end it by an exception.
    """
    rng, noise = np.random.default_rng(seed), interruptions(of)
    distinct = of.moments.distinct
    _, counts, beyond = _different_places(of)
    shares = counts / counts.sum()
    strips = np.arange(distinct.shape[1])
    found = np.zeros(len(distinct))
    for first in range(0, len(distinct), AT_ONCE):
        go_on()
        states = distinct[first : first + AT_ONCE]
        kinds = len(states)
        # Each different block once without an interruption (K, P, S), some with one or more: by how likely they are.
        own = np.maximum(_own_rows(of, states)[:, None, :] + beyond[:, states, strips].transpose(1, 0, 2), 0.0)
        hit = own[np.arange(kinds)[:, None], rng.choice(len(shares), (kinds, HIT), p=shares)]
        struck = hit + drawn(noise, hit.reshape(-1, len(strips)), rng, once=True).reshape(hit.shape)
        rows = np.concatenate((own * (1 + noise.rest), struck), axis=1)
        beside = np.repeat(of.beside(states), rows.shape[1], axis=0)
        aside = np.repeat(of.aside(states), rows.shape[1])
        made = of.played_rows(rows.reshape(-1, len(strips)), beside, aside).makespan.reshape(kinds, -1)
        quiet = np.exp(-noise.rate * own.sum(axis=2).mean(axis=1))[:, None]
        weights = np.hstack((shares * quiet, np.broadcast_to((1 - quiet) / HIT, (kinds, HIT))))
        order = np.argsort(-made, axis=1, kind="stable")
        reached = np.cumsum(np.take_along_axis(weights, order, axis=1), axis=1)
        place = np.minimum((reached < 0.01 - 1e-12).sum(axis=1), made.shape[1] - 1)
        at = np.take_along_axis(order, place[:, None], axis=1)
        found[first : first + kinds] = np.take_along_axis(made, at, axis=1)[:, 0] / of.deadline
    return found


def _different_places(of: Case) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]]:
    """The places of the sequences that differ, how often each kind comes, and what strips take there beyond their
    means in each state (P, N, S, seconds). At most so many are told apart: those that differ most."""
    uses, shapes = of.prepared.uses, _Shapes(of)
    count, states = len(of.session.strips), len(of.costs.by_state)
    live = [int(use) for use in np.flatnonzero(uses.live)]
    both = {use: [shapes.of_use(use, state) for state in (SILENT, FULL)] for use in live}
    longest = max((len(t) for each in both.values() for t in each if t is not None), default=1)
    longest = min(longest, PLACES)
    sums = np.zeros((2, longest, count))
    for use, each in both.items():
        for row, times in enumerate(each):
            if times is not None:
                sums[row, :, uses.strip[use]] += times[np.arange(longest) % len(times)]
    kinds = np.round(sums[FULL] / (ALIKE * of.deadline)).astype(np.int32)
    _, first, counts = np.unique(kinds, axis=0, return_index=True, return_counts=True)
    if len(first) > DIFFERENT:
        # The dearest ones apart, the others by what lies evenly among them.
        order = np.argsort(-sums[FULL][first].sum(axis=1), kind="stable")
        first, counts = first[order], counts[order]
        half = DIFFERENT // 2
        groups = np.array_split(np.arange(half, len(first)), DIFFERENT - half)
        kept = [np.array([k]) for k in range(half)] + [g for g in groups if len(g)]
        first = np.array([first[g[len(g) // 2]] for g in kept])
        counts = np.array([counts[g].sum() for g in kept])
    beyond = np.zeros((len(first), states, count))
    beyond[:, SILENT], beyond[:, FULL] = sums[SILENT][first], sums[FULL][first]
    # With fewer notes all that a block takes beyond its mean shrinks with the mean.
    own = of.costs.by_state
    scale = np.divide(own[FULL + 1 :], own[FULL], out=np.zeros_like(own[FULL + 1 :]), where=own[FULL] > 0)
    beyond[:, FULL + 1 :] = beyond[:, FULL : FULL + 1] * scale
    return first, counts.astype(np.float64), beyond


class _Shapes:
    """What each block of a plugin's sequence takes beyond its mean, in seconds on the computer that is to play.

    Company makes bursts dearer by the same share as the mean, and fewer notes cheaper.
    """

    def __init__(self, of: Case) -> None:
        self._of = of
        self._known: dict[tuple[int, int, bool], NDArray[np.float64] | None] = {}

    def of_use(self, use: int, state: int) -> NDArray[np.float64] | None:
        """The sequence of one use in a state; None where its blocks are all alike."""
        uses = self._of.prepared.uses
        card, live = int(uses.card[use]), bool(self._of.prepared.live[uses.strip[use]])
        if (card, state, live) not in self._known:
            self._known[card, state, live] = self._read(card, state, live)
        return self._known[card, state, live]

    def _read(self, number: int, state: int, live: bool) -> NDArray[np.float64] | None:
        of = self._of
        figures, condition = of.prepared.figures, "silent" if state == SILENT else "sounding"
        card = figures.found[number]
        cell = _nearest(card, figures.rate, of.buffer, condition) if card is not None else None
        if card is None or cell is None:
            return None
        own = cell.sequence_ns() / 1e9
        if np.ptp(own) <= 1e-7:
            return None
        per_key = of.costs.each if live else of.costs.ahead
        mean = float(own.mean())
        among = float(per_key.seconds[state, number])
        return (own - mean) * (among / mean if mean > 0 else 1.0)


def _nearest(card: CostCard, rate: int, buffer: int, condition: str) -> Cell | None:
    """The cell whose sequence shows best how a plugin's cost varies at this size: the exact one, else the nearest."""
    cells = [c for c in card.cells if c.condition == condition and len(c.sequence) > 4]
    return min(cells, key=lambda c: (c.rate != rate, abs(np.log2(c.buffer / buffer))), default=None)
