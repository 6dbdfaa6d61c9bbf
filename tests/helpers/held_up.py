"""A host on cores that others hold up: a leader and a worker, each on a core of its own that is taken away for a while
again and again, without the kernel seeing it, as a machine's other guests do."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

Stretches = list[tuple[int, int]]
BEGUN = 10_000_000_000


class Taken:
    """A core that is there for `free` ns and then away for `away` ns, both by chance with these means."""

    def __init__(self, rng: np.random.Generator, away: int, free: int, until: int) -> None:
        count = 2 * until // (away + free) + 10
        gaps, lengths = rng.exponential(free, count), rng.exponential(away, count)
        self._to = np.cumsum(gaps + lengths)
        self._begin = self._to - lengths

    def through(self, at: float, work: float) -> int:
        """When work of so many ns that begins at a time is done."""
        place = int(np.searchsorted(self._to, at, side="right"))
        while place < len(self._to):
            begin, to = self._begin[place], self._to[place]
            if at < begin:
                if at + work <= begin:
                    break
                work -= begin - at
            at = max(at, to)
            place += 1
        return int(at + work)


class Made(NamedTuple):
    """What the two threads did (ns), how many blocks ended after they were due, and when each did (periods after its
    own start was due)."""

    leader: Stretches
    worker: Stretches
    late: int
    ends: list[float]


def host(seed: int, away: int, free: int, period: int = 2_000_000, count: int = 1500, work=(300_000, 360_000)) -> Made:
    """A block: the leader wakes the worker, does its part, and sleeps until the worker is through, if it is not. After
    a late one the next begins without sleep."""
    rng = np.random.default_rng(seed)
    one, two = (Taken(rng, away, free, 2 * count * period) for _ in range(2))
    leader: list[list[int]] = []
    worker: list[list[int]] = []
    now = late = 0
    ends: list[float] = []
    for k in range(count):
        due = (k + 1) * period
        begin = one.through(due + rng.exponential(30_000), 0) if now < due else now
        if now < due:
            leader.append([begin, begin])
        woken = two.through(begin + rng.exponential(30_000), 0)
        worker.append([woken, two.through(woken, work[1])])
        now = leader[-1][1] = one.through(begin, work[0])
        if worker[-1][1] > now:
            middle = one.through(worker[-1][1] + rng.exponential(20_000), 0)
            now = one.through(middle, 5_000)
            leader.append([middle, now])
        late += now > due + period
        ends.append((now - due) / period)
    told = ([(b + BEGUN, e + BEGUN) for b, e in each if e > b] for each in (leader, worker))
    return Made(*told, late, ends)
