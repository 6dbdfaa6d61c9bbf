"""Whether blocks that were late would have been so in a larger buffer, as far as what was seen of them tells.

What a block takes in a larger buffer is what the blocks take that it is made of: their work by the sample, and whatever
held them up, which lasts as long whatever the buffer. What each block takes in addition is counted too often then, so
that a larger buffer is never said to help where it does not for that.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .blocks import Blocks
from .rhythm import LATE_BY

# So many times the buffer is tried; so many of the largest blocks are looked at before and behind those that were late.
TIMES, AROUND = (2, 4, 8), 3


def taken(blocks: Blocks, first: int, last: int) -> NDArray[np.float64]:
    """What each block took that was due from the `first` to the `last` of these (K, ns), those without a start of their
    own, too: as much as usual ones, for these were computed in one go with the one before; but where nobody began them
    in time, that took as long as nobody did."""
    period, is_late = blocks.period * 1e9, blocks.late > 0
    usual_of = (blocks.end - blocks.tick)[~is_late]
    usual = float(np.median(usual_of)) if len(usual_of) else period
    found: list[float] = []
    for k, covered in enumerate(blocks.covered[first : last + 1].tolist(), first):
        own = float(blocks.end[k] - blocks.tick[k])
        if covered == 1:
            found.append(own)
        elif own > period + LATE_BY:
            found += [max(own - (covered - 1) * usual, usual), *[usual] * (covered - 1)]
        else:
            found += [own, float(blocks.start[k + 1] - blocks.tick[k]) - period, *[usual] * (covered - 2)]
    return np.array(found)


def still_late(blocks: Blocks, first: int, last: int) -> tuple[bool, ...]:
    """Whether a dropout whose blocks are the `first` to the `last` of these would have come with each of `TIMES` as
    large a buffer, wherever that begins."""
    period, around = blocks.period * 1e9, AROUND * max(TIMES)
    took = taken(blocks, max(first - around, 0), min(last + around, len(blocks.tick) - 1))
    return tuple(any(_is_late(took, times, phase, period) for phase in range(times)) for times in TIMES)


def _is_late(took: NDArray[np.float64], times: int, phase: int, period: float) -> bool:
    """Whether one is late of blocks that are made of so many of these, from the one at `phase` on."""
    whole = took[phase : phase + (len(took) - phase) // times * times].reshape(-1, times).sum(axis=1)
    through = 0.0
    for due, each in enumerate(whole.tolist()):
        through = max(through, due * times * period) + each
        if through > (due + 1) * times * period + LATE_BY:
            return True
    return False
