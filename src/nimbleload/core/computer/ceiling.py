"""The ceiling: the load that this computer holds at one buffer size; and how it is looked for.

Loads are held for some seconds each. Of every block of each thread it is known how long it waited to be woken, how long
its own work took, and how long it was held up within it. So every block tells what it would have done under any other
load: what came of all trials together is played again at each (a block is late by its own end, and the next begins when
the one before has ended). A single step up and down that meets a bad second by chance does not decide then.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import msgspec
import numpy as np
from numpy.typing import NDArray

STEP = 0.05
LOADS = np.round(np.arange(0.10, 0.955, 0.01), 2)
LOWEST, HIGHEST = float(LOADS[0]), float(LOADS[-1])
# So many loads are held; the first one, and how far the others go at most.
TRIALS, FIRST, LAST = 6, 0.5, 0.9
# A load is held if in not more than one of so many seconds a block is late. Fewer and more may be seen by chance: 19
# times of 20 as many as between these (Poisson, by how many are expected).
ONE_IN, CHANCES = 10.0, (0.025, 0.975)
# The pace at its best is that of the quickest pieces of so many of all blocks: where others share the cores for most of
# the time they pause now and then for less than a block. One that takes so many times as long is slowed.
BEST, SLOWED = 0.02, 1.2
# Where real-time threads take so much of a second (share), the kernel takes the core from them for the rest of it, that
# is for more than so long (s): its brake, which a trial that overloads meets and no lower load does.
BRAKED, BRAKE = 0.9, 0.02


class Held(msgspec.Struct, frozen=True):
    """One trial: at `load` (share of the deadline) on all threads, so many of `blocks` were late.

    `worst` is when the latest end came (1.0: exactly at the deadline), `real_time` whether the threads were given it.
    """

    load: float
    blocks: int
    late: int
    worst: float
    real_time: bool


class Ceiling(msgspec.Struct, frozen=True):
    """What this computer holds at one buffer size (samples) and rate (Hz) on so many threads; loads are shares of the
    deadline on each.

    `held` is the highest load at which in not more than one second of ONE_IN a block was late (0: none), `least` and
    `most` what it may be (19 times of 20). Why it is no more: in which share of the blocks (0 … 1) the work was
    `slowed`, and how many times longer than at its best it took there (`slower`); how long a thread was held up or
    waited at most (`longest`, seconds); and in how many seconds blocks are `lost` at any load, since something held a
    core up for a whole one; those do not count otherwise. `seconds` is how long each trial took.
    """

    buffer: int
    rate: int
    threads: int
    seconds: float
    held: float
    least: float
    most: float
    slowed: float = 0.0
    slower: float = 1.0
    longest: float = 0.0
    lost: int = 0
    trials: tuple[Held, ...] = ()

    @property
    def is_known(self) -> bool:
        """Whether anything was tried."""
        return bool(self.trials)


class Blocks(NamedTuple):
    """What a trial saw, per thread and block (T, B; seconds): how long it `waited` to be woken, how long its `own`
    work took and how long it was `held_up` within that. `load` is what the work was meant to be (share of a `period`,
    seconds); `quickest` how many times longer than it was meant to its quickest piece took in each block (T, B)."""

    load: float
    period: float
    waited: NDArray[np.float64]
    own: NDArray[np.float64]
    held_up: NDArray[np.float64]
    quickest: NDArray[np.float64]

    @property
    def pace(self) -> NDArray[np.float64]:
        """How many times longer than it was meant to the work took in each block (T, B)."""
        return self.own / (self.load * self.period)

    def ends(self, load: float) -> NDArray[np.float64]:
        """When the last thread of each block would have ended under a load (B; 1: at its deadline). A thread that is
        late computes its next block at once."""
        took = self.own * (load / self.load) + self.held_up
        # Ends are e[k] = max(waited[k], e[k − 1] − period) + took[k]: of a queue (Lindley), as a running maximum.
        over = np.cumsum(took - self.period, axis=1)
        before = np.concatenate((np.zeros((len(over), 1)), over[:, :-1]), axis=1)
        ends = over + self.period + np.maximum.accumulate(self.waited - before, axis=1)
        return np.asarray(ends.max(axis=0) / self.period)

    @property
    def unbraked(self) -> Blocks:
        """The same blocks without what the kernel's brake for real-time threads took from them."""
        within = np.minimum(np.arange(1, self.own.shape[1] + 1), max(round(1 / self.period), 1))
        done = np.concatenate((np.zeros((len(self.own), 1)), np.cumsum(self.own, axis=1)), axis=1)
        ends = np.arange(1, done.shape[1])
        busy = (done[:, ends] - done[:, ends - within]) / (within * self.period)
        held = (busy >= BRAKED) & (self.waited + self.held_up > BRAKE)
        return self._replace(waited=np.where(held, 0.0, self.waited), held_up=np.where(held, 0.0, self.held_up))

    def late(self, load: float) -> NDArray[np.bool_]:
        """In which seconds of the trial a block would have been late under a load (S)."""
        seconds = (np.arange(self.own.shape[1]) * self.period).astype(int)
        found = np.zeros(seconds[-1] + 1, np.bool_)
        np.logical_or.at(found, seconds, self.ends(load) > 1)
        return found


class Search:
    """Looks for the ceiling: `next` is the load to try, None when it is found. Loads are what the work takes at its
    best, as costs on cards are; `pace` is how many times longer than it was meant to it takes then."""

    def __init__(self) -> None:
        self._seen: list[Blocks] = []
        self.trials: list[Held] = []

    @property
    def is_through(self) -> bool:
        """Whether all loads have been tried."""
        return len(self.trials) == TRIALS

    @property
    def next(self) -> float | None:
        """The load to try next (share of the deadline): what seems to be held so far."""
        if self.is_through:
            return None
        return float(np.clip(_highest(self._late(), 1), LOWEST, LAST)) if self._seen else FIRST

    @property
    def pace(self) -> float:
        """How many times longer than it was meant to the work takes at its best."""
        seen = [each.quickest.ravel() for each in self._seen]
        return float(np.quantile(np.concatenate(seen), BEST)) if seen else 1.0

    def _paces(self) -> NDArray[np.float64]:
        return np.concatenate([each.pace.ravel() for each in self._seen])

    def _late(self) -> NDArray[np.int64]:
        """At each of LOADS, in how many seconds a block was late; those that are lost at any load do not count."""
        pace, seen = self.pace, [(of, ~of.late(0.0)) for of in self._seen]
        found = [[(of.late(load / pace) & counts).sum() for load in LOADS] for of, counts in seen]
        return np.asarray(np.sum(found, axis=0))

    def tell(self, seen: Blocks, real_time: bool) -> Held:
        """Takes in what a trial saw."""
        self._seen.append(seen.unbraked if real_time else seen)
        ends = seen.ends(seen.load)
        held = Held(seen.load * self.pace, len(ends), int((ends > 1).sum()), float(ends.max()), real_time)
        self.trials.append(held)
        return held

    def found(self, buffer: int, rate: int, threads: int, seconds: float) -> Ceiling:
        """What all trials together say."""
        from scipy.special import pdtr  # imported here: it would lengthen every start

        late, paces = self._late(), self._paces() / self.pace
        slow, lost = paces > SLOWED, np.concatenate([each.late(0.0) for each in self._seen])
        expected = float((~lost).sum()) / ONE_IN
        chances = pdtr(np.arange(1000), expected)
        few, many = (int(np.searchsorted(chances, each)) for each in CHANCES)
        return Ceiling(
            buffer, rate, threads, seconds, _highest(late, expected), _highest(late, few), _highest(late, many),
            float(slow.mean()), float(np.median(paces[slow])) if slow.any() else 1.0,
            max(float((each.waited + each.held_up).max()) for each in self._seen),
            int(lost.sum()), tuple(self.trials),
        )  # fmt: skip


def _highest(late: NDArray[np.int64], allowed: float) -> float:
    """The highest of LOADS at which not more is late than is allowed (with more load more is); 0 if there is none."""
    fine = LOADS[late <= allowed]
    return float(fine[-1]) if len(fine) else 0.0


def by_buffer(found: Sequence[Ceiling], rate: int, threads: int) -> dict[int, Ceiling]:
    """Those of one rate and so many threads, by buffer size."""
    return {each.buffer: each for each in found if each.rate == rate and each.threads == threads and each.is_known}


def merged(old: Sequence[Ceiling], new: Sequence[Ceiling]) -> Iterator[Ceiling]:
    """The old ones, with the new ones in the place of those for the same buffer size, rate and threads."""
    places = {(each.buffer, each.rate, each.threads) for each in new}
    yield from (each for each in old if (each.buffer, each.rate, each.threads) not in places)
    yield from new
