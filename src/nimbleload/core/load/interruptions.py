"""What the computer interrupts: how often while it computes, and for how long each time, as kept with the cards."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .case import Case

# Where a card kept only the mean of what the machine added: how long one interruption is taken to last (seconds).
USUAL = 20e-6


class Interruptions(NamedTuple):
    """`rate` a second of computing, of one of the `lengths` each (seconds, equally likely); `rest` is the share of the
    computing time that goes to what is too small to be told from each other. Together they are the mean share.
    """

    rate: float
    lengths: NDArray[np.float64]
    rest: float

    @property
    def share(self) -> float:
        """What is added on average, as a share of the computing time."""
        return self.rest + self.rate * (float(self.lengths.mean()) if len(self.lengths) else 0.0)


def interruptions(of: Case) -> Interruptions:
    """What the cards of a session have met: together as much on average as its loads count with."""
    share = of.costs.interrupted
    if share <= 0:
        return Interruptions(0.0, np.zeros(0), 0.0)
    cells = [cell for card in of.prepared.figures.found if card is not None for cell in card.cells if cell.watched > 0]
    watched = sum(cell.watched for cell in cells)
    count = sum(cell.interruptions for cell in cells)
    if not count or watched <= 0:
        return Interruptions(share / USUAL, np.array([USUAL]), 0.0)
    # Each kept length stands for as many interruptions as its cell had of each that it kept.
    kept = [(cell.interrupted_ns() / 1e9, cell.interruptions) for cell in cells if cell.interruptions]
    lengths = np.concatenate([each for each, _ in kept])
    weights = np.concatenate([np.full(len(each), number / len(each)) for each, number in kept])
    order = np.argsort(lengths, kind="stable")
    places = (np.arange(256) + 0.5) / 256 * weights.sum()
    picked = lengths[order][np.searchsorted(np.cumsum(weights[order]), places)]
    rate = count / watched
    mean = rate * float(picked.mean())
    if mean > share:
        # More was met over all sizes than this one's mean tells: fewer of the same lengths.
        return Interruptions(rate * share / mean, picked, 0.0)
    return Interruptions(rate, picked, share - mean)


def drawn(
    of: Interruptions, rows: NDArray[np.float64], rng: np.random.Generator, once: bool = False
) -> NDArray[np.float64]:
    """What interruptions add to blocks whose strips compute for so long (M, S, seconds): each hits the core that
    computes at that instant, and so one strip, by how long it computes. With `once` each block meets one at least.
    """
    added = rows * of.rest
    if of.rate <= 0 or not rows.size:
        return added
    work = rows.sum(axis=1)
    expected = of.rate * work
    if once:
        # When the first one comes, given that one does; then any number in what is left of the block.
        first = -np.log1p(-rng.random(len(rows)) * -np.expm1(-expected))
        counts = (expected > 0) + rng.poisson(np.maximum(expected - first, 0.0))
    else:
        counts = rng.poisson(expected)
    row = np.repeat(np.arange(len(rows)), counts)
    if len(row):
        # In one long line of all blocks, strip by strip: a block begins where the one before has ended.
        strips = rows.shape[1]
        until = np.cumsum(rows)
        begins = np.concatenate(([0.0], until[strips - 1 : -1 : strips]))
        at = begins[row] + rng.random(len(row)) * work[row]
        strip = np.clip(np.searchsorted(until, at, side="right") - row * strips, 0, strips - 1)
        np.add.at(added, (row, strip), rng.choice(of.lengths, len(row)))
    return added
