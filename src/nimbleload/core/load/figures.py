"""The cost cards of a session as arrays: what one use of each kind costs at a buffer size, read once and kept.

K keys throughout, those of the session and of its variants. Seconds on the computer measured on.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..cards.card import CONDITIONS, OWN, PROVENANCES, Cards, Cell, Condition, CostCard, Paced, around
from ..session.plugins import CardKey

# The rows of conditions: silent, then sounding.
ROWS: tuple[Condition, ...] = ("silent", "sounding")
NUMBERS = {name: i for i, name in enumerate(PROVENANCES)}


class Sized(NamedTuple):
    """What one use of each key costs in a block of one size: silent and sounding (2, K each).

    `seconds` is its own time, brought to one clock of the core, `source` where that comes from (a place in
    `PROVENANCES`), `jitter` the mean of what the machine adds (seconds). `aside` is what its own threads and processes
    compute meanwhile on other cores, as a share of its own time; `doubt` which share of it may be the work of others,
    who shared the core when it was measured.
    """

    seconds: NDArray[np.float64]
    source: NDArray[np.int64]
    jitter: NDArray[np.float64]
    aside: NDArray[np.float64]
    doubt: NDArray[np.float64]


class Curves(NamedTuple):
    """Company curves that were measured at the same levels: `keys` (n), `levels` (L, bytes), `added` (n, L, share)."""

    keys: NDArray[np.int64]
    levels: NDArray[np.float64]
    added: NDArray[np.float64]


class Clocks(NamedTuple):
    """What a block of each key does to the clock of its core (K each): how many times as long steps take after it,
    for how many `seconds`, and how many times as long in a `row` as at rest (see `Slowing`)."""

    by: NDArray[np.float64]
    seconds: NDArray[np.float64]
    row: NDArray[np.float64]


class Figures:
    """The figures of cards at one sample rate (hertz). What is asked for a second time is kept."""

    def __init__(self, cards: Cards, keys: Sequence[CardKey], rate: int) -> None:
        self.cards, self.keys, self.rate = cards, tuple(keys), rate
        self.index = {key: k for k, key in enumerate(self.keys)}
        self.found = [cards.get(key) for key in self.keys]
        upkeeps = [card.upkeep if card is not None else None for card in self.found]
        self.footprint = np.array([float(u.footprint) if u is not None else 0.0 for u in upkeeps])
        self.beside = np.array([u.beside if u is not None else 1.0 for u in upkeeps])
        self.others = np.array([u.others if u is not None else 0 for u in upkeeps])
        self.paired = np.array([u.paired if u is not None else 1.0 for u in upkeeps])
        self.slower = np.array([u.slower if u is not None else 1.0 for u in upkeeps])
        # Of which it was measured what other cores, the other thread of its own and slow ones do.
        self.knows_cores = (self.others > 0) | (self.paired > 1) | (self.slower > 1)
        self.voices = np.array([key.voices for key in self.keys], np.int64)
        self.has_notes = np.array([card is not None and bool(card.polyphony) for card in self.found], np.bool_)
        self._cells = [_by_place(card, rate) for card in self.found]
        clocks = [cell.clock for cells in self._cells for cell in cells.values() if _tells_clock(cell)]
        # At which clock figures are told (what a known chain of steps takes here, seconds); 0 where no cell says.
        self.clock = float(np.median(clocks)) if clocks else 0.0
        self._sized: dict[int, Sized] = {}
        self._company: dict[int, list[Curves]] = {}
        self._paced: dict[int, NDArray[np.float64]] = {}
        self._slowing: dict[int, Clocks] = {}
        self._notes: dict[tuple[int, tuple[int, ...]], NDArray[np.float64]] = {}
        self._waking: dict[int, NDArray[np.float64]] = {}

    def __getstate__(self) -> dict[str, Any]:
        """What is sent to another process: all but the cells."""
        return {name: value for name, value in self.__dict__.items() if name != "_cells"}

    def __setstate__(self, state: dict[str, Any]) -> None:
        """Takes what came from another process, without the cells: they lie in the cards."""
        self.__dict__.update(state)
        self._cells = [_by_place(card, self.rate) for card in self.found]

    def covers(self, keys: Sequence[CardKey]) -> bool:
        """Whether it holds figures of all these keys."""
        return all(key in self.index for key in keys)

    def at(self, buffer: int) -> Sized:
        """What one use of each key costs at a buffer size (samples)."""
        if buffer not in self._sized:
            self._sized[buffer] = self._read(buffer)
        return self._sized[buffer]

    def _read(self, buffer: int) -> Sized:
        seconds, jitter, aside, doubt = (np.zeros((2, len(self.keys))) for _ in range(4))
        source = np.full((2, len(self.keys)), NUMBERS["unknown"], np.int64)
        for k, (card, cells) in enumerate(zip(self.found, self._cells, strict=True)):
            for row, condition in enumerate(ROWS) if card is not None else ():
                cell = cells.get((buffer, condition))
                if cell is not None:
                    same = self.clock / cell.clock if _tells_clock(cell) else 1.0
                    seconds[row, k], jitter[row, k] = same * cell.mean, cell.jitter
                    source[row, k], doubt[row, k] = NUMBERS[cell.provenance], cell.doubt
                else:
                    assert card is not None
                    figure = card.cost(self.rate, buffer, condition)
                    seconds[row, k], source[row, k] = figure.seconds, NUMBERS[figure.provenance]
                if card is not None:
                    aside[row, k] = _aside(cell, card, self.rate, buffer, condition)
        return Sized(seconds, source, jitter, aside, doubt)

    def company(self, buffer: int, touched: float) -> NDArray[np.float64]:
        """The share (K) that a block costs more when others touch so many bytes in between."""
        if buffer not in self._company:
            self._company[buffer] = self._curves(buffer)
        found = np.zeros(len(self.keys))
        for keys, levels, added in self._company[buffer]:
            place = int(np.clip(np.searchsorted(levels, touched, side="right") - 1, 0, max(len(levels) - 2, 0)))
            if len(levels) < 2:
                found[keys] = added[:, 0]
                continue
            part = min(max((touched - levels[place]) / (levels[place + 1] - levels[place]), 0.0), 1.0)
            found[keys] = (1 - part) * added[:, place] + part * added[:, place + 1]
        return found

    def paced(self, buffer: int) -> NDArray[np.float64]:
        """The share (K) that a block costs more when the plugin comes back to it once a deadline; 0 where that was not
        measured. What is added is a line over the logarithm of the size: what was taken from the caches is brought back
        once a block, and of what a longer block uses of them more and more is its own. It is a share of the cell's
        cost, and not of what a block took in a row beside it, which has no bursts that come in some of the cycles only.
        No larger share of that than at the nearest size measured is read beyond them."""
        if buffer not in self._paced:
            found = np.zeros(len(self.keys))
            for k, card in enumerate(self.found):
                known = sorted((p for p in card.paced if p.rate == self.rate), key=lambda p: p.buffer) if card else []
                if known:
                    found[k] = _coming_back(known, buffer)
            cost = self.at(buffer).seconds[ROWS.index("sounding")]
            self._paced[buffer] = np.divide(found, cost, out=np.zeros_like(found), where=cost > 0)
        return self._paced[buffer]

    def slowing(self, buffer: int) -> Clocks:
        """What a block of each use does to the clock of its core, on the line over the logarithm of the size; nothing
        where that was not measured."""
        if buffer not in self._slowing:
            found = Clocks(np.ones(len(self.keys)), np.zeros(len(self.keys)), np.ones(len(self.keys)))
            for k, card in enumerate(self.found):
                known = sorted((s for s in card.slowing if s.rate == self.rate), key=lambda s: s.buffer) if card else []
                if known:
                    sizes = np.log2([each.buffer for each in known])
                    for column, values in zip(found, zip(*(each.told for each in known), strict=True), strict=True):
                        column[k] = np.interp(np.log2(buffer), sizes, values)
            self._slowing[buffer] = found
        return self._slowing[buffer]

    def _curves(self, buffer: int) -> list[Curves]:
        """Each card's curve at a size, read on the line over the logarithm of the size, by the levels measured at."""
        by_levels: dict[tuple[int, ...], list[tuple[int, NDArray[np.float64]]]] = {}
        for k, card in enumerate(self.found):
            curves = sorted((c for c in card.company if c.rate == self.rate), key=lambda c: c.buffer) if card else []
            if not curves:
                continue
            low, high, part = around(curves, buffer)
            levels = tuple(sorted({*low.touched, *high.touched}))
            at_low, at_high = (np.interp(levels, c.touched, c.added()) for c in (low, high))
            by_levels.setdefault(levels, []).append((k, (1 - part) * at_low + part * at_high))
        return [
            Curves(np.array([k for k, _ in found]), np.array(levels, float), np.array([added for _, added in found]))
            for levels, found in by_levels.items()
        ]

    def with_notes(self, buffer: int, notes: tuple[int, ...]) -> NDArray[np.float64]:
        """The share of its full cost that each key takes with so many notes (N, K); 1 where that is not known."""
        if (buffer, notes) not in self._notes:
            found = np.ones((len(notes), len(self.keys)))
            for k in np.flatnonzero(self.has_notes) if notes else ():
                card = self.found[k]
                assert card is not None
                fewer = np.array(notes) < self.voices[k]
                found[:, k] = np.where(fewer, card.with_notes(self.rate, buffer, notes), 1.0)
            self._notes[buffer, notes] = found
        return self._notes[buffer, notes]

    def waking(self, buffer: int) -> NDArray[np.float64]:
        """What the dearest of a use's first blocks takes beyond a usual one (K, seconds); 0 where never measured.

        Of a size at which that was not measured it is scaled from the nearest one, by the length of the block.
        """
        if buffer not in self._waking:
            beyond = np.zeros(len(self.keys))
            for k, card in enumerate(self.found):
                cells = [cell for cell in card.cells if cell.condition == "waking"] if card is not None else []
                if card is not None and cells:
                    near = min(cells, key=lambda c: (c.rate != self.rate, abs(np.log2(c.buffer / buffer)), c.buffer))
                    usual = card.cost(near.rate, near.buffer, "sounding").seconds
                    beyond[k] = max(near.largest - usual, 0.0) * buffer / near.buffer
            self._waking[buffer] = beyond
        return self._waking[buffer]


def _tells_clock(cell: Cell) -> bool:
    """Whether it says at which clock of this computer it was measured."""
    return cell.clock > 0 and cell.provenance in OWN


def _aside(cell: Cell | None, card: CostCard, rate: int, buffer: int, condition: Condition) -> float:
    """What a plugin's own threads and processes compute for each second of its own: at this size, else the nearest."""
    if cell is None:
        known = [c for c in card.cells if c.condition == condition and c.mean > 0]
        cell = min(known, key=lambda c: (c.rate != rate, abs(np.log2(c.buffer / buffer)), c.buffer), default=None)
    return cell.aside / cell.mean if cell is not None and cell.mean > 0 else 0.0


def _coming_back(known: Sequence[Paced], buffer: int) -> float:
    """What coming back once a deadline adds to a block of a size (seconds); `known` in order of size."""
    nearest = min(known, key=lambda each: abs(each.buffer - buffer))
    if len(known) == 1:
        return nearest.added * nearest.row * buffer / nearest.buffer
    sizes = np.array([each.buffer for each in known])
    rows, more = (np.array(each) for each in zip(*((p.row, max(p.paced - p.row, 0.0)) for p in known), strict=True))
    high = int(np.clip(np.searchsorted(sizes, buffer), 1, len(known) - 1))
    low, top = sizes[high - 1 : high + 1]
    row = rows[high - 1] + (buffer - low) / (top - low) * (rows[high] - rows[high - 1])
    added = more[high - 1] + math.log(buffer / low) / math.log(top / low) * (more[high] - more[high - 1])
    if sizes[0] <= buffer <= sizes[-1]:
        return float(added)
    least = more[-1] if buffer > sizes[-1] else 0.0
    return float(min(max(added, least), nearest.added * max(row, 0.0)))


def _by_place(card: CostCard | None, rate: int) -> dict[tuple[int, str], Cell]:
    """The cells of a card at one rate by buffer size and condition."""
    cells = card.cells if card is not None else ()
    return {(cell.buffer, cell.condition): cell for cell in cells if cell.rate == rate and cell.condition in CONDITIONS}
