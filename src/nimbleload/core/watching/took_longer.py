"""Who took longer in late blocks: what looks say of these, beside as many usual ones.

What was seen of several late blocks, far apart, adds up: one that is late is looked at a few times only.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Blocks, Seen
from .not_there import mostly, touches, within
from .records import KERNEL, WAITING, Times
from .shares import wilson
from .stretches import until

# From fewer looks nothing is said of who took longer. One that takes surely more than a half of it is named.
FEWEST, MOSTLY = 20, 0.5
# Owners that take so much of a usual block, and were met so often in late ones, have all taken longer alike if none
# differs by more than this from what all together do.
COUNTS, MET, ALIKE = 0.05, 10, 0.35
# So many more pages of new memory in a late block than in a usual one are a reason.
NEW_PAGES = 64


class Took(NamedTuple):
    """What was computed in `blocks` that took longer than they may (`by` so much all together, ns), and in as many
    usual ones: what each of O owners took `now` and `then` (ns), how often it was `met` in the long ones, and how many
    new pages it `asked` for in them, of which there were so many more than in usual ones (`pages`). The engine's
    threads had a core for so much longer (`more`, ns); looks were so far apart (`step`, ns; 0: there were none)."""

    owner: Times
    now: NDArray[np.float64]
    then: NDArray[np.float64]
    met: NDArray[np.float64]
    asked: NDArray[np.float64]
    blocks: int
    by: float
    pages: float
    more: float
    step: float

    def and_of(self, other: Took) -> Took:
        """Of both together."""
        owner = np.union1d(self.owner, other.owner)
        now, then, met, asked = each = np.zeros((4, len(owner)))
        for of in (self, other):
            each[:, np.searchsorted(owner, of.owner)] += (of.now, of.then, of.met, of.asked)
        return Took(
            owner, now, then, met, asked, self.blocks + other.blocks, self.by + other.by, self.pages + other.pages,
            self.more + other.more, max(self.step, other.step),
        )  # fmt: skip


class Judged(NamedTuple):
    """Whom that names: an `owner` that took the part `part` of what was beyond usual blocks, and who `asks` for the new
    memory where that is the system; all of them `alike`, by the same factor; or some `waited` with a core of their own,
    and nobody computed meanwhile. None of these if it is not clear."""

    owner: int | None = None
    part: float = 0.0
    alike: bool = False
    asks: int | None = None
    waited: bool = False


def took(of: Seen, blocks: Blocks, longer: NDArray[np.bool_], usual: NDArray[np.bool_]) -> Took:
    """What was computed in the blocks that took `longer`, beside `usual` ones; there must be some of both."""
    met_now, met_then = _met(of, blocks, longer), _met(of, blocks, usual)
    # What is computed right behind a late block, without a start of its own, is a usual block of its own.
    starts = np.append(blocks.tick, blocks.tick[-1] + blocks.period * 1e9)
    covered = np.maximum(np.round(np.diff(starts) / (blocks.period * 1e9)), 1)
    often = float(covered[longer].sum() / covered[usual].sum())
    time, pages, owner = touches(of, of.engine)
    inside = within(blocks, longer, time)
    everyone = np.unique(np.concatenate((met_now[0], met_then[0], owner[inside])))
    now, then, met, asked = np.zeros((4, len(everyone)))
    at = np.searchsorted(everyone, met_now[0])
    now[at], met[at] = met_now[1], met_now[2]
    then[np.searchsorted(everyone, met_then[0])] = met_then[1] * often
    np.add.at(asked, np.searchsorted(everyone, owner[inside]), pages[inside])
    more_pages = float(pages[inside].sum() - often * pages[within(blocks, usual, time)].sum())
    end = np.append(blocks.start[1:], blocks.end[-1])
    busy = np.zeros(len(end))
    for k in of.engine:
        own = of.runs[k].begin, of.runs[k].end
        busy += until(own, end) - until(own, blocks.start)
    weights = [float(each.mean()) for k in of.engine if len(each := of.recording.threads[k].look_weight)]
    number = int(longer.sum())
    return Took(
        everyone, now, then, met, asked, number,
        float((blocks.end - blocks.tick)[longer].sum() - number * blocks.period * 1e9), more_pages,
        float(busy[longer].sum() - often * busy[usual].sum()), max(weights, default=0.0),
    )  # fmt: skip


def judged(of: Took) -> Judged:
    """Whom that names, as far as looks tell."""
    part = _systems_part(of)
    if part > MOSTLY:
        asks = mostly(of.owner, of.asked) if of.pages >= NEW_PAGES * of.blocks else None
        return Judged(KERNEL, part, asks=asks)
    more = np.maximum(of.now - of.then, 0.0)
    waits = of.owner == WAITING
    if more[waits].sum() > 0 and 2 * more[~waits].sum() < of.by:
        return Judged(waited=True)
    owner, now, then, met, more = (each[~waits] for each in (of.owner, of.now, of.then, of.met, more))
    if met.sum() < FEWEST:
        return Judged()
    times = now.sum() / max(then.sum(), 1e-9)
    counts = (then >= COUNTS * then.sum()) & (met >= MET)
    if counts.sum() > 1 and times > 1 and (np.abs(now[counts] / then[counts] / times - 1) <= ALIKE).all():
        return Judged(alike=True)
    top = int(np.argmax(more))
    beyond = met.sum() * more.sum() / max(now.sum(), 1e-9)
    hits = met[top] * more[top] / max(now[top], 1e-9)
    low, _ = wilson(round(min(hits, beyond)), round(beyond))
    return Judged(int(owner[top]), float(more[top] / more.sum())) if low > MOSTLY else Judged()


def _systems_part(of: Took) -> float:
    """At least which part of what blocks took longer was the system's, in which nobody can look: they had a core for
    longer than looks were made."""
    if of.more <= 0 or not of.step:
        return 0.0
    system = of.more - float(of.now.sum() - of.then.sum())
    # In each block the last look is over by less than the next would be.
    exact = 2 * float(np.sqrt(of.blocks)) * of.step
    return min((system - exact) / of.more, 1.0)


def _met(
    of: Seen, blocks: Blocks, chosen: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.int64]]:
    """Who was met in the engine's threads in these blocks: owners (O), what each took in all (O, ns), and how often it
    was met (O)."""
    threads = [of.recording.threads[k] for k in of.engine]
    time, owner, weight = (
        np.concatenate([getattr(each, f"look_{name}") for each in threads]) for name in ("time", "owner", "weight")
    )
    inside = within(blocks, chosen, time)
    owners, at, met = np.unique(owner[inside], return_inverse=True, return_counts=True)
    taken = np.bincount(at, weight[inside], len(owners)).astype(np.float64)
    return owners, taken, met.astype(np.int64)
