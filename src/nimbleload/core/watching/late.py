"""Why blocks of a running host were late: who came too late, who had to give way or to wait, and who took longer."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .asleep import Sleeper, sleeper_in
from .blocks import BEGAN, Blocks, Seen
from .core_clocks import clocks_in
from .not_there import mostly, touches, within
from .records import KERNEL, WAITING, Times
from .rhythm import LATE_BY
from .shares import wilson
from .stretches import joined, until, without

# The leader of blocks that began late slept on unless it was ready to run, by the system's own count, for such a part
# of all that time.
READY = 0.5
# From fewer looks nothing is said of who took longer. One that takes surely more than a half of it is named.
FEWEST, MOSTLY = 20, 0.5
# Owners that take so much of a usual block, and were met so often in late ones, have all taken longer alike if none
# differs by more than this from what all together do.
COUNTS, MET, ALIKE = 0.05, 10, 0.35
# So many more pages of new memory in a late block than in a usual one are a reason.
NEW_PAGES = 64


class Late(NamedTuple):
    """Late blocks by what made them so, each with those behind it that had no start of their own: `after` another one,
    `woken` too late, since no core was to be had; `slept`, too late though one was; `read` memory from the disk,
    `pushed` off a core by others, `waited` without computing, or `longer` by themselves.

    Of what these last took beyond a usual block the `owner` (as in `Thread.look_owner`) took the part `part`; None if
    that is not clear. `alike` says that all in them took longer by the same factor. `reader` is whose memory was read
    most, `asks` who asked for new memory in them. `meanwhile` is the place of another thread that computed for most of
    the time in which `waited` and `slept` ones did not, `sleeper` the plugin that slept then. `clocks` are those at
    which `longer` ones and usual ones were computed (Hz), if they were clearly slower.
    """

    after: int
    woken: int
    slept: int
    read: int
    pushed: int
    waited: int
    longer: int
    owner: int | None = None
    part: float = 0.0
    alike: bool = False
    reader: int | None = None
    asks: int | None = None
    meanwhile: int | None = None
    sleeper: Sleeper | None = None
    clocks: tuple[float, float] | None = None

    @property
    def blocks(self) -> int:
        return self.after + self.woken + self.slept + self.read + self.pushed + self.waited + self.longer


def why_late(of: Seen) -> Late | None:
    """What made blocks late; None if none was, or no cycle was found."""
    blocks = of.blocks
    if blocks is None or not blocks.late.any():
        return None
    period = blocks.period * 1e9
    late = blocks.late > 0
    by = blocks.end - (blocks.tick + period)
    idle, busy = _idle(of, blocks)
    usual_idle = float(np.median(idle[~late])) if not late.all() else 0.0
    before = np.concatenate(([-np.inf], blocks.end[:-1].astype(float)))
    after = late & (before > blocks.tick)
    began = late & ~after & _begins_late(blocks)
    # Others were in time, but that what was due next did not begin.
    began |= late & ~after & (by <= LATE_BY)
    rest = late & ~after & ~began
    read = rest & (2 * blocks.read > by)
    pushed = rest & ~read & (blocks.pushed > 0)
    waited = rest & ~read & ~pushed & (2 * (idle - usual_idle) > by)
    longer = rest & ~read & ~pushed & ~waited
    nobody = np.zeros(len(late), np.bool_)
    woken, slept = (nobody, began) if _was_asleep(of, blocks, began) else (began, nobody)
    kinds = (int(blocks.late[each].sum()) for each in (after, woken, slept, read, pushed, waited, longer))
    time, pages, owner = touches(of, of.engine)
    reader = mostly(owner[(pages == 0) & within(blocks, read, time)])
    begin, end = _not_computed(blocks, busy, waited, slept)
    beside, sleeper = _meanwhile(of, begin, end), sleeper_in(of, begin, end)
    clocks = clocks_in(of, longer, ~late)
    found = Late._make((*kinds, None, 0.0, False, reader, None, beside, sleeper, clocks))
    return _with_owner(found, of, blocks, longer, ~late) if longer.any() and not late.all() else found


class Began(NamedTuple):
    """How many `blocks` began clearly late, the latest by so many seconds (`by`), and whether the thread that begins
    them was `asleep` until then, so that no other one had kept it from a core."""

    blocks: int
    by: float
    asleep: bool


def began_late(of: Seen) -> Began:
    """Which blocks began late, those in time at their end as well: where an engine has one thread, a plugin that waits
    in it looks just like that."""
    blocks = of.blocks
    if blocks is None or not len(blocks.load):
        return Began(0, 0.0, False)
    which = _begins_late(blocks)
    return Began(int(which.sum()), float((blocks.start - blocks.tick).max()) / 1e9, _was_asleep(of, blocks, which))


def _begins_late(blocks: Blocks) -> NDArray[np.bool_]:
    return blocks.start - blocks.tick > BEGAN * blocks.period * 1e9


def _was_asleep(of: Seen, blocks: Blocks, began: NDArray[np.bool_]) -> bool:
    """Whether the thread that begins blocks was asleep for most of the time by which these, or those after them, began
    late."""
    ready = of.recording.threads[of.leader].waited
    following = np.append(blocks.start[1:] - blocks.tick[:-1] - blocks.period * 1e9, 0.0)
    delay = np.maximum(blocks.start - blocks.tick, following)[began]
    return 0 <= ready < READY * float(np.maximum(delay, 0.0).sum()) / 1e9


def _idle(of: Seen, blocks: Blocks) -> tuple[NDArray[np.float64], tuple[Times, Times]]:
    """For how long nobody of the engine had a core in each block (B, ns); and all stretches in which one had."""
    engine = [of.runs[k] for k in of.engine]
    busy = joined(*(np.concatenate([getattr(each, name) for each in engine]) for name in ("begin", "end")))
    return blocks.end - blocks.start - (until(busy, blocks.end) - until(busy, blocks.start)), busy


def _not_computed(
    blocks: Blocks, busy: tuple[Times, Times], waited: NDArray[np.bool_], slept: NDArray[np.bool_]
) -> tuple[Times, Times]:
    """From when to when (ns) the engine should have computed in these blocks and did not."""
    following = np.append(blocks.start[1:], blocks.end[-1])
    began_late = slept & (blocks.start > blocks.tick)
    overslept = slept & (blocks.late > 0) & (following > blocks.end)
    begin = np.concatenate((blocks.start[waited], blocks.tick[began_late], blocks.end[overslept]))
    end = np.concatenate((blocks.end[waited], blocks.start[began_late], following[overslept]))
    return without(joined(begin.astype(np.int64), end.astype(np.int64)), busy)


def _meanwhile(of: Seen, begin: Times, end: Times) -> int | None:
    """Which other thread computed for more than a half of these stretches, in which the engine did not."""
    if not len(begin):
        return None
    found, most = None, MOSTLY * float((end - begin).sum())
    for k, each in enumerate(of.runs):
        took = float((until((each.begin, each.end), end) - until((each.begin, each.end), begin)).sum())
        if of.roles[k] != "engine" and took > most:
            found, most = k, took
    return found


def _with_owner(
    found: Late, of: Seen, blocks: Blocks, longer: NDArray[np.bool_], usual: NDArray[np.bool_]
) -> Late:
    """With who took longer, as far as looks tell."""
    owners, of_longer, met = _met(of, blocks, longer)
    known, of_usual, _ = _met(of, blocks, usual)
    # What is computed right behind a late block, without a start of its own, is a usual block of its own.
    starts = np.append(blocks.tick, blocks.tick[-1] + blocks.period * 1e9)
    covered = np.maximum(np.round(np.diff(starts) / (blocks.period * 1e9)), 1)
    often = float(covered[longer].sum() / covered[usual].sum())
    part = _systems_part(of, blocks, longer, usual, often, float(of_longer.sum()), float(of_usual.sum()))
    if part > MOSTLY:
        return found._replace(owner=KERNEL, part=part, asks=_asks(of, blocks, longer, usual, often))
    everyone = np.union1d(owners, known)
    now, then = np.zeros((2, len(everyone)))
    now[np.searchsorted(everyone, owners)] = of_longer
    then[np.searchsorted(everyone, known)] = of_usual * often
    looks = np.zeros(len(everyone))
    looks[np.searchsorted(everyone, owners)] = met
    more = np.maximum(now - then, 0.0)
    waits = everyone == WAITING
    by = float((blocks.end - blocks.tick)[longer].sum() - longer.sum() * blocks.period * 1e9)
    if more[waits].sum() > 0 and 2 * more[~waits].sum() < by:
        # Some waited with a core of their own, and nobody computed meanwhile.
        return found._replace(waited=found.waited + found.longer, longer=0)
    for each in (now, then, looks, more):
        each[waits] = 0
    if looks.sum() < FEWEST:
        return found
    times = now.sum() / max(then.sum(), 1e-9)
    counts = (then >= COUNTS * then.sum()) & (looks >= MET)
    if counts.sum() > 1 and times > 1 and (np.abs(now[counts] / then[counts] / times - 1) <= ALIKE).all():
        return found._replace(alike=True)
    top = int(np.argmax(more))
    beyond = looks.sum() * more.sum() / max(now.sum(), 1e-9)
    hits = looks[top] * more[top] / max(now[top], 1e-9)
    low, _ = wilson(round(min(hits, beyond)), round(beyond))
    return found._replace(owner=int(everyone[top]), part=float(more[top] / more.sum())) if low > MOSTLY else found


def _systems_part(
    of: Seen, blocks: Blocks, longer: NDArray[np.bool_], usual: NDArray[np.bool_], often: float,
    looked_longer: float, looked_usual: float,
) -> float:  # fmt: skip
    """At least which part of what blocks took `longer` than so `often` a usual one was the system's, in which nobody
    can look: they had a core for longer than looks were made. `looked` is what looks stand for (ns)."""
    end = np.append(blocks.start[1:], blocks.end[-1])
    busy = np.zeros(len(end))
    for k in of.engine:
        own = of.runs[k].begin, of.runs[k].end
        busy += until(own, end) - until(own, blocks.start)
    more = float(busy[longer].sum() - often * busy[usual].sum())
    if more <= 0:
        return 0.0
    system = more - (looked_longer - often * looked_usual)
    weights = [each for k in of.engine if len(each := of.recording.threads[k].look_weight)]
    if not weights:
        return 0.0
    # In each block the last look is over by less than the next would be.
    exact = 2 * float(np.sqrt(longer.sum())) * max(float(each.mean()) for each in weights)
    return min((system - exact) / more, 1.0)


def _asks(
    of: Seen, blocks: Blocks, longer: NDArray[np.bool_], usual: NDArray[np.bool_], often: float
) -> int | None:
    """Who touched most of the new memory in these blocks, if there was much more of it than in usual ones."""
    time, pages, owner = touches(of, of.engine)
    inside = within(blocks, longer, time)
    if pages[inside].sum() - often * pages[within(blocks, usual, time)].sum() < NEW_PAGES * longer.sum():
        return None
    return mostly(owner[inside], pages[inside])


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
