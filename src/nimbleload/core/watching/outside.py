"""What was taken of the engine's time on its cores by nothing that this system schedules."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .blocks import Seen
from .records import READ_WITHIN, TAKES, Thread, Times
from .stretches import touching, until

# From so much time on cores (seconds) it is told.
ENOUGH = 0.1
# What made blocks longer by such a part is what did.
MOST = 0.5
# Of so many readings before a block, and behind it, that is taken which tells most exactly what was run until then.
NEAREST = 3


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

    What each ran by the scheduler's count was read again and again. What was taken between the readings around a
    stretch, beyond what is taken between others as well, is held against all that took longer between these.
    """
    found = np.zeros(len(begin), np.bool_)
    for k in set(of.engine) - set(of.awake) if len(begin) else ():
        thread = of.recording.threads[k]
        time, ran, last = thread.ready_time, thread.ready_ran, len(thread.ready_ran) - 1
        if last < 1:
            continue
        open_ = _not_counted(thread, time)
        before, after = (
            near[np.arange(len(near)), np.argmin(open_[near], axis=1)] for near in (
                np.clip(np.searchsorted(time, begin, "right")[:, None] - 1 - np.arange(NEAREST), 0, last),
                np.clip(np.searchsorted(time, end)[:, None] + np.arange(NEAREST), 0, last),
            )
        )  # fmt: skip
        there = until((of.runs[k].begin, of.runs[k].end), time)
        had, most = there[after] - there[before], ran[after] + open_[after] - ran[before] + 2 * READ_WITHIN
        around = np.cumsum(np.bincount(before, minlength=last + 1) - np.bincount(after, minlength=last + 1))[:-1] > 0
        other = float(np.diff(there)[~around].sum())
        usual = 1 - float(np.diff(ran)[~around].sum()) / other if other > 0 else 0.0
        longer = touching((begin, end), more, time[before], time[after])
        found |= had - most - usual * had > MOST * longer
    return found


def _not_counted(of: Thread, time: Times) -> Times:
    """Of how much time at most (ns) the system had not counted yet what a thread had run, at some times: it does so
    when a thread leaves its core, and else only now and then."""
    if not len(of.switch_time):
        return np.zeros(len(time), np.int64)
    last = np.maximum(np.searchsorted(of.switch_time, time, "right") - 1, 0)
    has_core = (of.switch_kind[last] == TAKES) & (of.switch_time[last] <= time)
    return np.where(has_core, time - of.switch_time[last], 0)
