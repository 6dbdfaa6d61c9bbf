"""Why blocks of a running host were late: who came too late, who had to give way or to wait, and who took longer."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .asleep import Met, Sleeper, met_in
from .blocks import BEGAN, Blocks, Seen
from .core_clocks import clocks_in
from .not_there import mostly, touches, within
from .outside import taken_in
from .records import Times
from .rhythm import LATE_BY
from .stretches import joined, touching, until, without
from .took_longer import MOSTLY, Took, judged, took

# The leader of blocks that began late slept on unless it was ready to run, by the system's own count, for such a part
# of all that time.
READY = 0.5


class Late(NamedTuple):
    """Late blocks by what made them so, each with those behind it that had no start of their own: `after` another one,
    `woken` too late, since no core was to be had; `slept`, too late though one was; `read` memory from the disk, had a
    core taken away from `outside` this system, `pushed` off one by others, `waited` without computing, or `longer` by
    themselves.

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
    outside: int
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
        found = self.after, self.woken, self.slept, self.read, self.outside, self.pushed, self.waited, self.longer
        return sum(found)


class Reasons(NamedTuple):
    """What made blocks late: `late` without who took longer, which `took` (None: nobody, or there were no usual blocks)
    says; `asleep` is who was met sleeping in those that did not compute. Reasons of blocks far apart add up."""

    late: Late
    took: Took | None
    asleep: Met

    def and_of(self, other: Reasons) -> Reasons:
        """Of both together; what is not counted is that of the one with more blocks."""
        most, less = (self.late, other.late) if self.late.blocks >= other.late.blocks else (other.late, self.late)
        late = most._replace(
            after=most.after + less.after, woken=most.woken + less.woken, slept=most.slept + less.slept,
            read=most.read + less.read, outside=most.outside + less.outside, pushed=most.pushed + less.pushed,
            waited=most.waited + less.waited, longer=most.longer + less.longer,
            reader=most.reader if most.reader is not None else less.reader,
            meanwhile=most.meanwhile if most.meanwhile is not None else less.meanwhile,
            clocks=most.clocks if most.clocks is not None else less.clocks,
        )  # fmt: skip
        both = self.took.and_of(other.took) if self.took and other.took else self.took or other.took
        return Reasons(late, both, self.asleep.and_of(other.asleep))

    def told(self) -> Late:
        """With who took longer and who slept, as far as looks tell."""
        found = self.late._replace(sleeper=self.asleep.mostly())
        if self.took is None:
            return found
        who = judged(self.took)
        if who.waited:
            return found._replace(waited=found.waited + found.longer, longer=0)
        return found._replace(owner=who.owner, part=who.part, alike=who.alike, asks=who.asks)


def why_late(of: Seen) -> Late | None:
    """What made blocks late; None if none was, or no cycle was found."""
    found = reasons(of)
    return found.told() if found is not None else None


def reasons(of: Seen, only: NDArray[np.bool_] | None = None) -> Reasons | None:
    """What made blocks late, or `only` some of them (B); None if none was, or no cycle was found."""
    blocks = of.blocks
    if blocks is None:
        return None
    is_late = blocks.late > 0
    late = is_late if only is None else is_late & only
    if not late.any():
        return None
    period = blocks.period * 1e9
    by = blocks.end - (blocks.tick + period)
    idle, busy = _idle(of, blocks)
    usual_idle = float(np.median(idle[~is_late])) if not is_late.all() else 0.0
    before = np.concatenate(([-np.inf], blocks.end[:-1].astype(float)))
    after = late & (before > blocks.tick)
    began = late & ~after & _begins_late(blocks)
    # Others were in time, but that what was due next did not begin.
    began |= late & ~after & (by <= LATE_BY)
    rest = late & ~after & ~began
    read = rest & (2 * blocks.read > by)
    outside = rest & ~read & _was_taken(of, blocks)
    pushed = rest & ~read & ~outside & (blocks.pushed > 0)
    waited = rest & ~read & ~outside & ~pushed & (2 * (idle - usual_idle) > by)
    longer = rest & ~read & ~outside & ~pushed & ~waited
    slept = _was_asleep(of, blocks, began)
    woken = began & ~slept
    kinds = (int(blocks.late[each].sum()) for each in (after, woken, slept, read, outside, pushed, waited, longer))
    time, pages, owner = touches(of, of.engine)
    reader = mostly(owner[(pages == 0) & within(blocks, read, time)])
    begin, end = _not_computed(blocks, busy, waited, slept)
    beside, clocks = _meanwhile(of, begin, end), clocks_in(of, longer, ~is_late)
    found = Late._make((*kinds, None, 0.0, False, reader, None, beside, None, clocks))
    who = took(of, blocks, longer, ~is_late) if longer.any() and not is_late.all() else None
    return Reasons(found, who, met_in(of, begin, end))


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
    asleep = which.any() and bool(_was_asleep(of, blocks, which)[which].all())
    return Began(int(which.sum()), float((blocks.start - blocks.tick).max()) / 1e9, bool(asleep))


def _begins_late(blocks: Blocks) -> NDArray[np.bool_]:
    return blocks.start - blocks.tick > BEGAN * blocks.period * 1e9


def _was_asleep(of: Seen, blocks: Blocks, began: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which of the blocks that began late, or those after them (B), did so though the thread that begins them was
    asleep for most of that time. How long it was ready instead is counted by the system, and read now and then: blocks
    between the same readings are judged together."""
    asleep = np.zeros(len(began), np.bool_)
    due = blocks.tick + blocks.period * 1e9
    # Whoever was not through in time could not begin the next in time.
    following = np.append(np.where(blocks.end <= due + LATE_BY, np.append(blocks.start[1:], 0) - due, 0.0)[:-1], 0.0)
    own = blocks.start - blocks.tick
    which = np.flatnonzero(began)
    delay = np.maximum(np.maximum(own, following), 0.0)[which]
    leader = of.recording.threads[of.leader]
    if len(leader.ready_time) < 2:
        asleep[which] = 0 <= leader.waited < READY * float(delay.sum()) / 1e9
        return asleep
    begin = np.where(own >= following, blocks.tick, due)[which]
    last = len(leader.ready_time) - 1
    first = np.clip(np.searchsorted(leader.ready_time, begin, "right") - 1, 0, last)
    after = np.clip(np.searchsorted(leader.ready_time, begin + delay), 0, last)
    ready = leader.ready_sum[after] - leader.ready_sum[first]
    late = touching((begin, begin + delay), delay, leader.ready_time[first], leader.ready_time[after])
    asleep[which] = ready < READY * late
    return asleep


def _was_taken(of: Seen, blocks: Blocks) -> NDArray[np.bool_]:
    """In which late blocks (B) a core was taken from outside for most of what they took beyond usual ones."""
    took, is_late = (blocks.end - blocks.start).astype(np.float64), blocks.late > 0
    usual = float(np.median(took[~is_late])) if not is_late.all() else 0.0
    found, which = np.zeros(len(took), np.bool_), np.flatnonzero(is_late)
    more = (took - blocks.covered * usual)[which]
    found[which] = taken_in(of, blocks.start[which], blocks.end[which], more)
    return found


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
