"""Which figures of a card are worth measuring once more."""

from __future__ import annotations

from .card import CONDITIONS, Cell, Condition, CostCard, Paced

# What is above the line between the sizes beside it by so much stands out. The longest has no larger one beside it, and
# caches may make a sample of it dearer by themselves: by so much at most.
STANDS_OUT, LONGEST_STANDS_OUT = 1.12, 1.3
# What differs by less (seconds) is no matter. Of so many of the blocks it is to be known what they do to the clock; and
# where others shared the core, by so much.
LEAST_DIFFERENCE, ENOUGH_KNOWN, SHARED = 0.3e-6, 0.5, 1.1


def disturbed(card: CostCard, rate: int) -> list[Cell]:
    """The figures at a rate (Hz) that others disturbed, by what the witness told."""
    return [cell for cell in card.cells if cell.is_doubtful and cell.rate == rate]


def disturbed_in_turns(card: CostCard, rate: int) -> list[Paced]:
    """The same of what blocks cost once a deadline."""
    return [each for each in card.paced if each.rate == rate and each.shared >= SHARED]


def most_shared(card: CostCard, rate: int) -> float:
    """How many times too high a figure at a rate (Hz) may be at most, since others shared the core while it was
    measured; 1: none is."""
    cells, turns = disturbed(card, rate), disturbed_in_turns(card, rate)
    return max((*(each.shared for each in cells), *(each.shared for each in turns)), default=1.0)


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
            for before, cell, after in zip([None, *cells], cells, [*cells[1:], None], strict=False)
            if cell.is_doubtful or stands_out(cell, before, after)
        ]
    return tuple(found)


def sizes_to_repeat(card: CostCard, rate: int) -> tuple[int, ...]:
    """The block sizes at which what a block takes once a deadline, or what it does to the clock, is to be measured once
    more: others were at it all the while, or a block in a row took clearly longer then than when its cell was
    measured."""
    found = {each.buffer for each in card.slowing if each.rate == rate and each.known < ENOUGH_KNOWN}
    found |= {each.buffer for each in disturbed_in_turns(card, rate)}
    for each in (each for each in card.paced if each.rate == rate):
        cell = card.cell(rate, each.buffer, "sounding")
        of_cell = cell.mean if cell is not None and cell.provenance == "measured" and not cell.is_doubtful else 0.0
        if of_cell > 0 and each.row > STANDS_OUT * of_cell + LEAST_DIFFERENCE:
            found.add(each.buffer)
    return tuple(sorted(found))


def stands_out(cell: Cell, smaller: Cell | None, larger: Cell | None) -> bool:
    """Whether a block costs clearly more than those of the sizes beside it lead one to expect: more than on the line
    between both; at the ends more than a longer one, or more a sample than a shorter one."""
    beside = [each for each in (smaller, larger) if each is not None]
    is_known = all(each.clock > 0 for each in (cell, *beside))
    # What each takes at the clock of this one, where that is known.
    costs = [each.mean * (cell.clock / each.clock if is_known else 1.0) for each in beside]
    if smaller is not None and larger is not None:
        part = (cell.buffer - smaller.buffer) / (larger.buffer - smaller.buffer)
        expected = STANDS_OUT * ((1 - part) * costs[0] + part * costs[1])
    elif larger is not None:
        expected = STANDS_OUT * costs[0]
    elif smaller is not None:
        expected = LONGEST_STANDS_OUT * costs[0] * cell.buffer / smaller.buffer
    else:
        return False
    return cell.mean > expected + LEAST_DIFFERENCE
