"""When dropouts come, and beside what: whether that is more than chance.

A dropout now and then has a reason that its own block hardly tells; several of them may: they come by a clock, only at
first, or whenever something else is at work. Each is told only if chance would hardly make it look so.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from .dropouts import Dropout, What

# By chance nothing is told once in so many times.
CHANCE = 1e-3
# A rhythm must hold for so many dropouts, and for such a part of all; so many of them are looked at, the last ones; its
# steps are so long at least (seconds), and there are so many in all at most. What follows another within so much of a
# step is not counted. They may come this much too early or too late (parts of a step).
FEWEST, PART, MOST, SHORTEST, STEPS = 4, 0.5, 40, 0.5, 4000
FOLLOWS = 0.25
OFF = (0.0005, 0.002, 0.005, 0.01, 0.02, 0.04)
# A step that is another one divided is the same rhythm if it holds for this much more.
DIVIDED = 8
# Something at work beside that many dropouts, at least, is a pattern.
TOGETHER = 2


class Regular(NamedTuple):
    """Dropouts that come by a clock: `on` of them `every` so many seconds; of the `steps` of that length between the
    first and the last of these so many had one (`met`)."""

    every: float
    on: int
    steps: int
    met: int


class With(NamedTuple):
    """What was at work beside so many (`times`) of the dropouts; `usually` is it in such a part of the other time."""

    name: str
    what: What
    times: int
    usually: float


@lru_cache(8)
def regular(times: tuple[float, ...]) -> Regular | None:
    """The rhythm that some times (seconds, in order) keep; None if chance could look like it.

    Each two of them, with whole numbers of steps between, propose one; the others are on it by chance with twice the
    tolerance's probability, each. Those that follow others within a part of a step are taken as one, which is on it by
    chance as much more often as it has parts on average.
    Of the proposals that are more than chance after all that were tried (Bonferroni: an upper bound, since these are
    not independent) that one is told on which most are and whose steps are least often without one.
    """
    at = np.array(times[-MOST:], np.float64)
    count = len(at)
    if count < FEWEST:
        return None
    whole, gaps = float(at[-1] - at[0]), np.diff(at, prepend=-np.inf)
    apart = (at[None, :] - at[:, None])[np.triu_indices(count, 1)]
    origin = at[np.repeat(np.arange(count), np.arange(count - 1, -1, -1))]
    every = np.concatenate([apart / divided for divided in range(1, DIVIDED + 1)])
    fits = (every >= max(SHORTEST, whole / STEPS)) & (every <= whole / (FEWEST - 1) * 1.1)
    every, start = every[fits], np.tile(origin, DIVIDED)[fits]
    tried = math.log(max(len(every) * len(OFF), 1))
    phase = (at[None, :] - start[:, None]) / every[:, None]
    off = np.abs(phase - np.round(phase))
    group = np.cumsum(gaps[None, :] > FOLLOWS * every[:, None], axis=1) - 1
    number = group[:, -1] + 1
    best: tuple[float, float, float, float] | None = None
    for tolerance in OFF:
        is_on = np.zeros(off.shape, np.bool_)
        row, column = np.nonzero(off <= tolerance)
        is_on[row, group[row, column]] = True
        on = is_on.sum(axis=1)
        for place in np.flatnonzero(on >= np.maximum(FEWEST, PART * number)).tolist():
            each = min(2 * tolerance * count / int(number[place]), 1.0)
            chance = _tail(int(number[place]) - 2, int(on[place]) - 2, each)
            score = float(on[place]) ** 3 / (whole / every[place] + 1)
            if chance + tried < math.log(CHANCE) and (best is None or score > best[0]):
                best = score, float(every[place]), float(start[place]), tolerance
    return _fitted(at, *best[1:]) if best is not None else None


def _fitted(at: np.ndarray, every: float, start: float, off: float) -> Regular:
    """The same with the step that fits all that are on it best (least squares)."""
    number = np.round((at - start) / every)
    mine = np.abs((at - start) / every - number) <= off
    every = float(np.polyfit(number[mine], at[mine], 1)[0])
    steps = int(number[mine].max() - number[mine].min()) + 1
    return Regular(every, int(mine.sum()), steps, len(np.unique(number[mine])))


def _tail(of: int, hits: int, chance: float) -> float:
    """The logarithm of the probability that so many or more of `of` hit, each with that chance: Chernoff's bound."""
    share = hits / of if of else 1.0
    if not of or share <= chance or hits <= 0:
        return 0.0
    if chance <= 0:
        return -math.inf
    rest = (1 - share) * math.log((1 - share) / (1 - chance)) if share < 1 else 0.0
    return -of * (share * math.log(share / chance) + rest)


def only_first(played: Sequence[float], whole: float) -> bool:
    """Whether all came so early in so many seconds of playing that it is more than chance."""
    return _at_one_end(max(played, default=whole), len(played), whole)


def only_last(played: Sequence[float], whole: float) -> bool:
    """Whether the first came so late that it is more than chance."""
    return _at_one_end(whole - min(played, default=0.0), len(played), whole)


def _at_one_end(within: float, count: int, whole: float) -> bool:
    return count > 0 and whole > 0 and (max(within, 0.0) / whole) ** count < CHANCE


def at_work_with(found: Sequence[Dropout]) -> list[With]:
    """What was at work beside dropouts clearly more often than chance would have it, the surest first.

    That it is there in so many of them, or more, is a binomial's tail; whatever was there in any has been tried."""
    often: dict[tuple[str, What], list[float]] = {}
    for dropout in found:
        for each in dropout.beside:
            often.setdefault((each.name, each.what), []).append(each.usually)
    judged = []
    for (name, what), usually in often.items():
        # Never at all in the little that was seen is not never.
        mean = max(float(np.mean(usually)), 1e-3)
        chance = _tail(len(found), len(usually), mean)
        if len(usually) >= TOGETHER and chance + math.log(len(often)) < math.log(CHANCE):
            judged.append((chance, With(name, what, len(usually), float(np.mean(usually)))))
    return [each for _, each in sorted(judged)]
