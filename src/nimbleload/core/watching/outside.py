"""What was taken of the engine's time on its cores by nothing that this system schedules."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .blocks import Seen
from .records import TAKES, Thread, Times
from .stretches import between, until

# From so much time on cores (seconds) it is told.
ENOUGH = 0.1
# What made blocks longer by such a part is what did.
MOST = 0.5
# The system counts what a thread has run when it leaves its core, and else only now and then: what is read of one that
# has a core, or takes one within so long (ns), is not exact.
EXACT = 100_000


def taken_outside(of: Seen) -> float | None:
    """Which share of the time in which the engine's threads had a core was not theirs (0 … 1): by the scheduler's count
    of what they ran, against when they took and left their cores. Other guests of a virtual machine take it, and
    interrupts. At least that: the count holds some microseconds more of each switch. None where it is not known."""
    places = [k for k in of.engine if of.recording.threads[k].ran >= 0]
    there = sum(float((of.runs[k].end - of.runs[k].begin).sum()) for k in places) / 1e9
    if there < ENOUGH:
        return None
    return min(max(1 - sum(of.recording.threads[k].ran for k in places) / there, 0.0), 1.0)


def taken_in(of: Seen, begin: Times, end: Times, more: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which of some stretches (N, in order: from when to when, ns) took so much `more` (N, ns) than others for the most
    part since one of the engine's threads had its core taken away from outside then.

    What each ran by the scheduler's count was read again and again. Stretches between the same readings are judged
    together; what is taken between the others as well is no reason.
    """
    found = np.zeros(len(begin), np.bool_)
    for k in set(of.engine) - set(of.awake) if len(begin) else ():
        time, ran = _exact(of.recording.threads[k])
        if len(time) < 2:
            continue
        there = until((of.runs[k].begin, of.runs[k].end), time)
        taken = there - ran
        group, before, after = between(time, begin.astype(np.float64), end.astype(np.float64))
        now, had = taken[after] - taken[before], there[after] - there[before]
        otherwise = there[-1] - there[0] - had.sum()
        usual = (taken[-1] - taken[0] - now.sum()) / otherwise if otherwise > 0 else 0.0
        beyond = now - usual * had
        found |= (beyond > MOST * np.bincount(group, more))[group]
    return found


def _exact(of: Thread) -> tuple[Times, Times]:
    """When it was read what a thread had run, and how long that was (ns), as far as it is exact."""
    if not len(of.ready_ran) or not len(of.switch_time):
        return of.ready_ran, of.ready_ran
    last, soon = (np.searchsorted(of.switch_time, of.ready_time + wait, "right") - 1 for wait in (0, EXACT))
    exact = (last >= 0) & (last == soon) & (of.switch_kind[last] != TAKES)
    return of.ready_time[exact], of.ready_ran[exact]
