"""Why blocks of a running host were late: who came too late, who had to give way, and who took longer than usual."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Blocks, Seen
from .shares import wilson

# A block began late if it began so much of a period after it was due.
BEGAN = 0.1
# From fewer looks nothing is said of who took longer. One that takes surely more than a half of it is named.
FEWEST, MOSTLY = 20, 0.5
# Owners that take so much of a usual block, and were met so often in late ones, have all taken longer alike if none
# differs by more than this from what all together do.
COUNTS, MET, ALIKE = 0.05, 10, 0.35


class Late(NamedTuple):
    """Late blocks by what made them so, each with those behind it that had no start of their own: `after` another one,
    `woken` too late, `pushed` off a core by others, or `longer` by themselves.

    Of what these last took beyond a usual block the `owner` (as in `Thread.look_owner`) took the part `part`; None if
    that is not clear. `alike` says that all in them took longer by the same factor.
    """

    after: int
    woken: int
    pushed: int
    longer: int
    owner: int | None = None
    part: float = 0.0
    alike: bool = False

    @property
    def blocks(self) -> int:
        return self.after + self.woken + self.pushed + self.longer


def why_late(of: Seen) -> Late | None:
    """What made blocks late; None if none was, or no cycle was found."""
    blocks = of.blocks
    if blocks is None or not blocks.late.any():
        return None
    period = blocks.period * 1e9
    late = blocks.late > 0
    before = np.concatenate(([-np.inf], blocks.end[:-1].astype(float)))
    after = late & (before > blocks.tick)
    woken = late & ~after & (blocks.start - blocks.tick > BEGAN * period)
    pushed = late & ~after & ~woken & (blocks.pushed > 0)
    longer = late & ~after & ~woken & ~pushed
    counts = [int(blocks.late[each].sum()) for each in (after, woken, pushed, longer)]
    found = Late(counts[0], counts[1], counts[2], counts[3])
    return _with_owner(found, of, blocks, longer, ~late) if longer.any() and not late.all() else found


def _with_owner(
    found: Late, of: Seen, blocks: Blocks, longer: NDArray[np.bool_], usual: NDArray[np.bool_]
) -> Late:
    """With who took longer, as far as looks tell."""
    owners, of_longer, met = _met(of, blocks, longer)
    known, of_usual, _ = _met(of, blocks, usual)
    if met.sum() < FEWEST:
        return found
    everyone = np.union1d(owners, known)
    now, then = np.zeros((2, len(everyone)))
    # What is computed right behind a late block, without a start of its own, is a usual block of its own.
    starts = np.append(blocks.tick, blocks.tick[-1] + blocks.period * 1e9)
    covered = np.maximum(np.round(np.diff(starts) / (blocks.period * 1e9)), 1)
    now[np.searchsorted(everyone, owners)] = of_longer
    then[np.searchsorted(everyone, known)] = of_usual * covered[longer].sum() / covered[usual].sum()
    looks = np.zeros(len(everyone))
    looks[np.searchsorted(everyone, owners)] = met
    more = np.maximum(now - then, 0.0)
    times = now.sum() / max(then.sum(), 1e-9)
    counts = (then >= COUNTS * then.sum()) & (looks >= MET)
    if counts.sum() > 1 and times > 1 and (np.abs(now[counts] / then[counts] / times - 1) <= ALIKE).all():
        return found._replace(alike=True)
    top = int(np.argmax(more))
    beyond = looks.sum() * more.sum() / max(now.sum(), 1e-9)
    hits = looks[top] * more[top] / max(now[top], 1e-9)
    low, _ = wilson(round(min(hits, beyond)), round(beyond))
    return found._replace(owner=int(everyone[top]), part=float(more[top] / more.sum())) if low > MOSTLY else found


def _met(
    of: Seen, blocks: Blocks, chosen: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.int64]]:
    """Who was met in the engine's threads in these blocks: owners (O), what each took in all (O, ns), and how often it
    was met (O)."""
    threads = [each for each, role in zip(of.recording.threads, of.roles, strict=True) if role == "engine"]
    time, owner, weight = (
        np.concatenate([getattr(each, f"look_{name}") for each in threads]) for name in ("time", "owner", "weight")
    )
    place = np.searchsorted(blocks.start, time, "right") - 1
    inside = (place >= 0) & chosen[np.maximum(place, 0)]
    owners, at, met = np.unique(owner[inside], return_inverse=True, return_counts=True)
    taken = np.bincount(at, weight[inside], len(owners)).astype(np.float64)
    return owners, taken, met.astype(np.int64)
