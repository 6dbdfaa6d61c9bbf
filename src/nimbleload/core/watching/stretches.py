"""Stretches of time, as their beginnings and ends (ns): put together, measured, taken from each other."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .records import Times


def joined(begin: Times, end: Times) -> tuple[Times, Times]:
    """Stretches that may lie over each other as such that do not, in order."""
    if not len(begin):
        return begin, end
    order = np.argsort(begin, kind="stable")
    begin, end = begin[order], np.maximum.accumulate(end[order])
    first = np.flatnonzero(np.append(True, begin[1:] > end[:-1]))
    return begin[first], end[np.append(first[1:], len(end)) - 1]


def until(stretches: tuple[Times, Times], times: Times) -> NDArray[np.float64]:
    """How much of stretches (see `joined`) lies before each of some times (ns)."""
    begin, end = stretches
    if not len(begin):
        return np.zeros(len(times))
    whole = np.append(0, np.cumsum(end - begin))
    place = np.searchsorted(begin, times, "right")
    # The last that has begun may not be over.
    beyond = np.where(place > 0, np.maximum(end[place - 1] - times, 0), 0)
    return np.asarray(whole[place] - beyond, np.float64)


def touching(
    stretches: tuple[NDArray[Any], NDArray[Any]], amount: NDArray[np.float64], since: Times, upto: Times
) -> NDArray[np.float64]:  # fmt: skip
    """What those of some stretches (N, in order, of which each stands for an `amount`) come to that lie, at least in
    part, between one time and another (M each, ns)."""
    begin, end = stretches
    whole = np.append(0.0, np.cumsum(amount))
    found: NDArray[np.float64] = whole[np.searchsorted(begin, upto)] - whole[np.searchsorted(end, since, "right")]
    return found


def covered(stretches: tuple[Times, Times], times: Times) -> NDArray[np.bool_]:
    """Which times (ns) lie in one of some stretches."""
    return np.asarray(until(stretches, times + 1) > until(stretches, times), np.bool_)


def without(stretches: tuple[Times, Times], others: tuple[Times, Times]) -> tuple[Times, Times]:
    """What of stretches (in order, not overlapping) lies in none of the others (the same)."""
    if not len(stretches[0]):
        return stretches
    edges = np.unique(np.concatenate((*stretches, *others)))
    begin, end = edges[:-1], edges[1:]
    kept = (until(stretches, end) > until(stretches, begin)) & (until(others, end) <= until(others, begin))
    return begin[kept], end[kept]
