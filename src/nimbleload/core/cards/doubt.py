"""Which figures of a card are worth measuring once more."""

from __future__ import annotations

from .card import CONDITIONS, Cell, Condition, CostCard

# What is above the line between its neighbours by so much stands out: a third of it, where it has a neighbour on one
# side only, is what caches may do to it.
STANDS_OUT, AT_AN_END = 1.12, 1.3


def to_repeat(card: CostCard, rate: int) -> tuple[tuple[int, Condition], ...]:
    """The places (block size in samples, condition) of what was measured while others shared the core, and of what
    stands out from the sizes beside it: others may have taken of the core what the witness does not need."""
    found: list[tuple[int, Condition]] = []
    for condition in CONDITIONS:
        cells = sorted(
            (c for c in card.cells if (c.rate, c.condition, c.provenance) == (rate, condition, "measured")),
            key=lambda c: c.buffer,
        )
        found += [
            (cell.buffer, condition)
            for k, cell in enumerate(cells)
            if cell.is_doubtful or stands_out(cell, cells[:k], cells[k + 1 :])
        ]
    return tuple(found)


def stands_out(cell: Cell, smaller: list[Cell], larger: list[Cell]) -> bool:
    """Whether a block costs clearly more than those of the sizes beside it (ascending) lead one to expect: more than on
    the line between both; at the ends more than a longer one, or more a sample than a shorter one."""
    beside = [*smaller[-1:], *larger[:1]]
    is_known = all(each.clock > 0 for each in (cell, *beside))
    # What each takes at the clock of this one, where that is known.
    costs = [each.mean * (cell.clock / each.clock if is_known else 1.0) for each in beside]
    if smaller and larger:
        part = (cell.buffer - smaller[-1].buffer) / (larger[0].buffer - smaller[-1].buffer)
        return cell.mean > STANDS_OUT * ((1 - part) * costs[0] + part * costs[1])
    if larger:
        return cell.mean > STANDS_OUT * costs[0]
    return bool(smaller) and cell.mean > AT_AN_END * costs[0] * cell.buffer / smaller[-1].buffer
