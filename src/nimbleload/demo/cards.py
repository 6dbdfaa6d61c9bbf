"""The sample cost cards that the example opens with: measured once on another computer, and marked as samples."""

from __future__ import annotations

from functools import cache
from importlib import resources

import msgspec

from ..core.cards.card import Cell, CostCard
from ..core.session.plugins import CardKey
from ..native.decoding import decoded

FILE = "sample_cards.json"
BLOCKS_KEPT = 128


def sample_cards() -> dict[CardKey, CostCard]:
    """The sample cards by key. Every figure in them has the provenance "sample"."""
    return {card.key: card for card in _shipped()}


@cache
def _shipped() -> list[CostCard]:
    content = resources.files(__package__).joinpath(FILE).read_bytes()
    return decoded(content, list[CostCard])


def as_sample(card: CostCard) -> CostCard:
    """A measured card as it ships: figures to the nanosecond, short block sequences, and marked; without what the
    computer measured on does to caches and to its clock, which on another says nothing."""
    polyphony = tuple(
        msgspec.structs.replace(each, seconds=tuple(round(s, 9) for s in each.seconds)) for each in card.polyphony
    )
    cells = tuple(_as_sample(cell) for cell in card.cells)
    return msgspec.structs.replace(card, cells=cells, polyphony=polyphony, paced=(), slowing=())


def _as_sample(cell: Cell) -> Cell:
    times = {
        name: round(getattr(cell, name), 9) for name in ("mean", "median", "p95", "p99", "p999", "largest", "jitter")
    }
    sequence = cell.sequence[: 4 * BLOCKS_KEPT] if cell.condition == "sounding" else b""
    return msgspec.structs.replace(cell, **times, provenance="sample", sequence=sequence)
