"""What was seen of a host since watching began, for hours: its dropouts and how full its blocks were, second by second.

Records are kept for minutes; what they told of each second is taken from them once, and stays.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from functools import reduce
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Blocks, Seen
from .dropouts import Dropout, dropouts, first_of
from .late import Reasons
from .records import HOST, Times
from .stretches import until

# What began so long ago (ns) is over, and all that is told of it has been; from fewer seconds nothing is taken.
LAG, LEAST = 1_500_000_000, 3.0
# Where no cycle is found, later looks may find it, with more of it: for so long (ns) they are waited for. A host whose
# threads compute for less of the time (a part) has none to be found.
PATIENCE, PLAYS = 8_000_000_000, 0.005
# Whoever hears a dropout says so within that many seconds.
REACTION = 2.5
# So much is kept: seconds, dropouts, those with their lanes.
SECONDS, DROPOUTS, WITH_LANES = 4 * 3600, 1000, 100
# Loads are counted in steps of a thousandth, so many; at another period (by so much) they are others.
STEP, STEPS, OTHER = 0.001, 10_000, 0.05


class Mark(NamedTuple):
    """That somebody heard a dropout: when he said so (ns; Unix time, 0: not known), and whether a block was late within
    `REACTION` before; and how full the fullest was."""

    time: int
    day: float
    is_dropout: bool
    fullest: float


class Past(NamedTuple):
    """What was seen from `begun` to `ended` (ns): so many seconds of it `played`, so many could not be seen (`unseen`),
    for want of records, and in so many the host computed without a cycle that could be found (`no_cycle`).

    How full `blocks` of one period were: `typical`, one in a hundred (`bad`), `worst`. For each of S seconds (`second`:
    its beginning, ns) how full the fullest block was, and how many were late. `dropouts` in order, but so many that are
    `forgotten`, and `why` blocks were late in all of them; `marks` of who heard one.
    """

    begun: int
    ended: int
    played: float
    unseen: float
    blocks: int
    typical: float
    bad: float
    worst: float
    second: Times
    fullest: NDArray[np.float64]
    late: Times
    dropouts: tuple[Dropout, ...] = ()
    forgotten: int = 0
    marks: tuple[Mark, ...] = ()
    why: Reasons | None = None
    no_cycle: float = 0.0

    @property
    def number(self) -> int:
        """How many dropouts there were."""
        return len(self.dropouts) + self.forgotten

    @property
    def covered(self) -> float:
        """In which part of what was played a dropout had just been, or was, whenever one would have listened: by so
        much marks fall together with dropouts by chance."""
        if not self.played:
            return 0.0
        begun = np.array([each.time / 1e9 for each in self.dropouts])
        over = np.minimum([each.ended / 1e9 + REACTION for each in self.dropouts], np.append(begun[1:], np.inf))
        return min(float((over - begun).sum()) / self.played, 1.0)


class History:
    """Takes in what is seen, again and again, and keeps what will be told of it."""

    def __init__(self) -> None:
        self._begun = self._taken = 0
        self._has_begun = False
        self._played = self._unseen = self._no_cycle = 0.0
        self._in_doubt = False
        self._seconds: dict[int, list[float]] = {}
        self._counts, self._period = np.zeros(STEPS + 1, np.int64), 0.0
        self._worst, self._forgotten = 0.0, 0
        self._dropouts: deque[Dropout] = deque()
        self._pending: list[int] = []
        self._marks: list[Mark] = []
        self._why: Reasons | None = None

    def take(self, of: Seen, day: float = 0.0, last: bool = False) -> tuple[Dropout, ...]:
        """Takes in what is new in the records of the last seconds, all of it if they are the `last`; the dropouts that
        are. `day` is Unix time minus that of the records (seconds; 0: not known)."""
        recording = of.recording
        if not self._has_begun:
            self._begun = self._taken = recording.begun
            self._has_begun = True
        if recording.seconds < LEAST and not last:
            return ()
        upto = recording.ended if last else recording.ended - LAG
        if of.blocks is not None:
            upto = upto if last else first_of(of.blocks, self._taken, upto)
        elif not last:
            upto = max(upto - PATIENCE, min(upto, recording.begun))
            self._in_doubt = self._in_doubt or _plays(of, self._taken, recording.ended)
        since = self._taken
        if upto <= since:
            return ()
        gap = max(recording.begun - since, 0) / 1e9
        if self._in_doubt:
            self._no_cycle += gap
        elif not of.was:
            self._unseen += gap
        self._taken = upto
        if of.blocks is not None:
            self._in_doubt = False
            self._count(of.blocks, since, upto)
        elif _plays(of, since, upto):
            self._no_cycle += max(upto - max(since, recording.begun), 0) / 1e9
        found = [self._placed(each, day) for each in dropouts(of, since, upto)]
        self._keep(found)
        self._judge(day)
        return tuple(found)

    def mark(self, time: int) -> None:
        """Somebody hears a dropout just now (ns)."""
        self._pending.append(time)

    def _count(self, blocks: Blocks, since: int, upto: int) -> None:
        inside = (blocks.start > since) & (blocks.start <= upto)
        if not inside.any():
            return
        if abs(blocks.period - self._period) > OTHER * self._period:
            self._counts[:], self._worst, self._period = 0, 0.0, blocks.period
        load = blocks.load[inside]
        self._worst = max(self._worst, float(load.max()))
        np.add.at(self._counts, np.minimum((load / STEP).astype(np.int64), STEPS), 1)
        late = blocks.late[inside]
        # What is computed right behind a late one, without a start of its own, was played as well.
        self._played += int(blocks.covered[inside].sum()) * blocks.period
        seconds = (blocks.start[inside] - self._begun) // 1_000_000_000
        for second in np.unique(seconds).tolist():
            mine = seconds == second
            kept = self._seconds.setdefault(second, [0.0, 0.0])
            kept[0], kept[1] = max(kept[0], float(load[mine].max())), kept[1] + int(late[mine].sum())
        while len(self._seconds) > SECONDS:
            del self._seconds[next(iter(self._seconds))]

    def _placed(self, of: Dropout, day: float) -> Dropout:
        """With its time of day, and how much had been played until then, as far as is known; in order: when a block was
        due is told anew by each look."""
        last = self._dropouts[-1].time if self._dropouts else of.time
        of = of._replace(time=max(of.time, last), ended=max(of.ended, last))
        after = (self._taken - of.time) / 1e9
        return of._replace(day=day + of.time / 1e9 if day else 0.0, played=max(self._played - after, 0.0))

    def _keep(self, found: list[Dropout]) -> None:
        self._dropouts.extend(found)
        self._why = together([self._why, *(each.why for each in found)])
        while len(self._dropouts) > DROPOUTS:
            self._dropouts.popleft()
            self._forgotten += 1
        without = len(self._dropouts) - WITH_LANES
        for place in range(without - len(found), without):
            if place >= 0:
                self._dropouts[place] = self._dropouts[place]._replace(lanes=())

    def _judge(self, day: float) -> None:
        """Says of marks, all of whose time has been taken in, whether a block was late just before."""
        over = [time for time in self._pending if time <= self._taken]
        self._pending = [time for time in self._pending if time > self._taken]
        for time in over:
            before = time - round(REACTION * 1e9)
            is_dropout = any(each.time <= time and before <= each.ended for each in self._dropouts)
            first, last = ((each - self._begun) // 1_000_000_000 for each in (before, time))
            fullest = max((self._seconds[k][0] for k in range(first, last + 1) if k in self._seconds), default=0.0)
            self._marks.append(Mark(time, day + time / 1e9 if day else 0.0, is_dropout, fullest))

    @property
    def past(self) -> Past:
        """What has been seen so far."""
        cumulated, second = np.cumsum(self._counts), np.array(list(self._seconds), np.int64)
        blocks = int(cumulated[-1])
        middles = (np.searchsorted(cumulated, [0.5 * blocks, 0.99 * blocks]) + 0.5) * STEP
        typical, bad = np.minimum(middles, self._worst).tolist()
        fullest, late = np.array(list(self._seconds.values()), np.float64).reshape(-1, 2).T
        return Past(
            self._begun, self._taken, self._played, self._unseen, blocks, typical, bad, self._worst,
            self._begun + second * 1_000_000_000, fullest, late.astype(np.int64), tuple(self._dropouts),
            self._forgotten, tuple(self._marks), self._why, self._no_cycle,
        )  # fmt: skip


def _plays(of: Seen, since: int, upto: int) -> bool:
    """Whether a thread in real time computes between two times (ns); or, if none is, one that has plugins."""
    threads, times = of.recording.threads, np.array([since, upto])
    may = [each.is_real_time for each in threads]
    if not any(may):
        may = [bool((each.look_owner > HOST).any()) for each in threads]
    took = (np.diff(until((runs.begin, runs.end), times)) for runs, yes in zip(of.runs, may, strict=True) if yes)
    return any(float(each[0]) > PLAYS * (upto - since) for each in took)


def together(of: Sequence[Reasons | None]) -> Reasons | None:
    """Why blocks were late in all of some dropouts; None if none was."""
    known = [each for each in of if each is not None]
    return reduce(Reasons.and_of, known) if known else None


def past_of(of: Seen, day: float = 0.0) -> Past:
    """What a whole recording tells at once."""
    history = History()
    history.take(of, day, last=True)
    return history.past
