"""How long carrying out takes: by the cost cards before it begins, then by how it goes."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import NamedTuple

from ..core.cards.card import Cards
from ..core.cards.upkeep import Upkeep
from ..core.load.costs import beside_share
from ..core.piece.moments import union
from ..store.this_computer import this_computer
from .against import AGAIN, merged
from .carrying import MIX, Prepared
from .in_order import CORES
from .render import Job, Step, other_buffer
from .rendering import ends_of
from .stage import Stage

# What a strip takes of one core for each second of sound beside its plugins: read, added up, written.
HANDLING = 0.01
# How long (seconds) it has to go on until that says as much as the cards.
TRUSTED = 10.0
# With less done than that, and for less than so many seconds, nothing is said of what no card is known for.
ENOUGH, LOOKED = 0.02, 2.0


class Pass(NamedTuple):
    """Stages that are rendered once, so many samples of the piece at a rate (hertz), in blocks of `buffer`."""

    stages: tuple[Stage, ...]
    samples: int
    rate: int
    buffer: int


class Effort(NamedTuple):
    """What something takes (seconds): the `work` of one core, and how long it goes on `alone` on all of them. It is not
    `known` where there is no card of a plugin in it, which counts as nothing."""

    work: float = 0.0
    alone: float = 0.0
    known: bool = True


def efforts(prepared: Prepared, cards: Cards, proven: bool = True) -> dict[str, Effort]:
    """What each thing that there is to do takes, with its proof if there is to be one; by the ids of jobs' strips."""
    found = {job.strip.id: effort(_passes(job, proven), cards) for job in prepared.jobs}
    for check in prepared.checks:
        both, _ = merged(*check.ways, check.bus, lambda _: True)
        found[check.bus.id] = effort(_passes(both, proven=False), cards)
    if prepared.together is not None:
        whole = prepared.together.job
        found[whole.strip.id] = effort(_passes(whole, proven=False), cards)
    return found


def _passes(job: Job, proven: bool) -> Iterator[Pass]:
    """Each rendering that a job is made of."""
    once = Pass(job.stages, job.samples, job.rate, job.buffer)
    yield once
    if proven:
        yield once._replace(buffer=other_buffer(job.buffer))
    if proven and job.stretch is not None:
        whole = round(max(ends_of(job.whole), default=0.0) * job.rate)
        yield from 2 * [once._replace(samples=whole)]


def effort(passes: Iterator[Pass], cards: Cards) -> Effort:
    """What renderings take together, one after the other."""
    work, alone, known = 0.0, 0.0, True
    for each in passes:
        of = [_stage(stage, each, cards) for stage in each.stages]
        longest: dict[str, float] = {}
        through = 0.0
        for stage, (seconds, is_known) in zip(each.stages, of, strict=True):
            through = longest.get(stage.strip.id, 0.0) + seconds
            for feed in stage.feeds:
                longest[feed.target] = max(longest.get(feed.target, 0.0), through)
            work, known = work + seconds, known and is_known
        alone += max(through, sum(seconds for seconds, _ in of) / CORES)
    return Effort(work, alone, known)


def _stage(stage: Stage, of: Pass, cards: Cards) -> tuple[float, bool]:
    """What a stage takes in a rendering (seconds of one core), and whether a card is known of each of its plugins."""
    length = of.samples / of.rate
    spans = [(part.start, part.end) for part in stage.sounding.parts] + stage.sounding.held()
    sounds = sum(min(end, length) - start for start, end in union(spans) if start < length)
    # What plays nothing itself is fed by others.
    share = sounds / length if spans and length else 1.0
    found, known = HANDLING * length, True
    for use in stage.uses:
        card = cards.get(use.card_key())
        known = known and card is not None and card.cost(of.rate, of.buffer, "sounding").provenance != "unknown"
        if card is not None:
            each = share * card.cost(of.rate, of.buffer, "sounding").seconds
            each += (1 - share) * card.cost(of.rate, of.buffer, "silent").seconds
            found += each * of.samples / of.buffer * (1 + _of_others(card.upkeep))
    return found, known


def _of_others(of: Upkeep | None) -> float:
    """Which share more a plugin takes where all cores of this computer are at it, fast ones and slow ones."""
    here = this_computer()
    if of is None:
        return 0.0
    return float(beside_share(of, here, here.cores)) + (of.slower - 1) * here.on_slow


class TimeLeft:
    """How long it goes on (seconds), of things to do with their `efforts`; by `clock` (seconds), without pauses."""

    def __init__(
        self, efforts: Mapping[str, Effort], cards: Cards, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._efforts, self._cards, self._clock = dict(efforts), cards, clock
        self._shares = dict.fromkeys(efforts, 0.0)
        self._begun = clock()
        self._still: float | None = None

    def longest_first(self, jobs: Iterable[Job]) -> list[Job]:
        """Jobs in the order in which to begin them: then the last ones do not leave cores without work for long (R. L.
        Graham, "Bounds on multiprocessing timing anomalies", 1969: at most a third longer than the best order)."""
        return sorted(jobs, key=lambda job: -self._efforts.get(job.strip.id, Effort()).alone)

    def take(self, step: Step) -> None:
        """What has been done. What was there already has taken nothing, nor does anything more of what has ended."""
        own = step.job.strip.id
        if step.doing == AGAIN:
            if own in self._shares:
                self._shares[own] = 1.0
            own = f"{own} {AGAIN}"
        if step.doing == AGAIN or own == MIX.id:
            # What of it is rendered is known only now.
            known = self._efforts.get(own)
            if known is None or not known.work:
                self._efforts[own] = effort(_passes(step.job, proven=False), self._cards)
        if step.trouble or (step.rendered is not None and not self._shares.get(own)):
            self._efforts.pop(own, None)
            self._shares.pop(own, None)
        elif own in self._efforts:
            self._shares[own] = max(self._shares.get(own, 0.0), step.share)

    def stand_still(self, still: bool) -> None:
        """The time does not go on, or does again."""
        if still and self._still is None:
            self._still = self._clock()
        elif not still and self._still is not None:
            self._begun += self._clock() - self._still
            self._still = None

    def seconds(self) -> float | None:
        """How long it still goes on, about; None where nothing can be said yet."""
        left = {own: 1.0 - share for own, share in self._shares.items()}
        todo = [self._efforts[own] for own, rest in left.items() if rest > 0]
        done = sum(of.work * self._shares[own] for own, of in self._efforts.items())
        rest = sum(self._efforts[own].work * part for own, part in left.items())
        last = max((self._efforts[own].alone * part for own, part in left.items()), default=0.0)
        spent = (self._clock() if self._still is None else self._still) - self._begun
        known = all(of.known for of in todo)
        if todo and not known and (spent < LOOKED or done <= ENOUGH * (done + rest)):
            return None
        trusted = TRUSTED if known else 0.0
        pace = (done + CORES * trusted) / (spent + trusted) if trusted or spent else CORES
        return max(rest, last * CORES) / pace if todo else 0.0
