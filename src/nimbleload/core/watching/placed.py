"""On which cores a host's engine computed: beside another of the host's threads on the same core, or on slow ones."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from .blocks import Seen
from .stretches import joined, until


class Placed(NamedTuple):
    """Shares of the time in which the engine's threads had a core (0 … 1): `beside` another of the host's threads that
    had the other thread of the same core, and on `slow` ones."""

    beside: float
    slow: float


def placed(of: Seen) -> Placed | None:
    """Where the engine computed; None if all cores are alike, as far as the recording tells, or it did nothing."""
    alike = of.recording.alike
    if not (alike.same or alike.slow) or not of.runs:
        return None
    begin, end, core = (np.concatenate(each) for each in list(zip(*of.runs, strict=True))[:3])
    own = np.repeat([role in ("engine", "ahead") for role in of.roles], [len(found.begin) for found in of.runs])
    took = float((end - begin)[own].sum())
    if not took:
        return None
    slow = float((end - begin)[own & np.isin(core, alike.slow)].sum())
    beside = 0.0
    for cores in alike.same:
        for here in cores:
            there = np.isin(core, cores) & (core != here)
            others, mine = joined(begin[there], end[there]), own & (core == here)
            beside += float((until(others, end[mine]) - until(others, begin[mine])).sum())
    return Placed(beside / took, slow / took)
