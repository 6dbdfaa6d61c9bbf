"""Which plugins sleep in the engine's threads, and for what: as far as looks at sleeping threads tell."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Seen
from .records import HOST, Times
from .stretches import covered

# From so many looks on it is told; of some stretches of time the plugin that was met in so much of them.
FEWEST, MOSTLY = 3, 0.5


class Sleeper(NamedTuple):
    """A plugin (`owner`) that was met asleep in the engine's threads so often (`looks`): for what mostly (as
    `Thread.sleep_why`), and for which part of the time about (0 …, of all threads together)."""

    owner: int
    why: int
    looks: int
    part: float


def sleepers(of: Seen) -> list[Sleeper]:
    """The plugins that sleep in the engine's threads, who does so most first."""
    found = []
    owner, why, _ = _looks(of)
    for each in np.unique(owner[owner > HOST]).tolist():
        mine, part = owner == each, 0.0
        for k in of.engine:
            thread, runs = of.recording.threads[k], of.runs[k]
            met = int((thread.sleep_owner == each).sum())
            asleep = 1 - float((runs.end - runs.begin).sum()) / 1e9 / max(of.recording.seconds, 1e-9)
            part += max(asleep, 0.0) * met / max(len(thread.sleep_owner), 1)
        if mine.sum() >= FEWEST:
            found.append(Sleeper(each, _most(why[mine]), int(mine.sum()), part))
    return sorted(found, key=lambda sleeper: -sleeper.part)


class Met(NamedTuple):
    """Who was met asleep in some stretches of time: how often each plugin, and for what (`often`), of so many times at
    which one `could` have been met."""

    often: dict[tuple[int, int], int]
    could: int

    def and_of(self, other: Met) -> Met:
        """Of both together."""
        both = {each: self.often.get(each, 0) + other.often.get(each, 0) for each in self.often | other.often}
        return Met(both, self.could + other.could)

    def mostly(self) -> Sleeper | None:
        """The plugin that slept for most of the time; None if none is known to have."""
        of_owner: dict[int, int] = {}
        for (owner, _), looks in self.often.items():
            of_owner[owner] = of_owner.get(owner, 0) + looks
        top = max(of_owner, key=lambda owner: (of_owner[owner], -owner), default=None)
        if top is None or of_owner[top] < max(FEWEST, MOSTLY * self.could):
            return None
        _, why = max((looks, -why) for (owner, why), looks in self.often.items() if owner == top)
        return Sleeper(top, -why, of_owner[top], 0.0)


def met_in(of: Seen, begin: Times, end: Times) -> Met:
    """Who was met asleep in some stretches of time (in order, not overlapping)."""
    owner, why, time = _looks(of)
    inside = covered((begin, end), time)
    # As often as one of the threads was met there it could have been met.
    seen = (covered((begin, end), of.recording.threads[k].sleep_time) for k in of.engine)
    most = max((int(each.sum()) for each in seen), default=0)
    mine = inside & (owner > HOST)
    pairs, looks = np.unique(np.column_stack((owner[mine], why[mine])), axis=0, return_counts=True)
    often = {(int(who), int(what)): int(count) for (who, what), count in zip(pairs, looks, strict=True)}
    return Met(often, most)


def _looks(of: Seen) -> tuple[Times, Times, Times]:
    """All looks at sleeping threads of the engine: whose code, for what, when."""
    threads = [of.recording.threads[k] for k in of.engine]
    if not threads:
        return (np.zeros(0, np.int64),) * 3
    owner, why, time = (
        np.concatenate([getattr(each, f"sleep_{name}") for each in threads]) for name in ("owner", "why", "time")
    )
    return owner, why, time


def _most(of: NDArray[np.int64]) -> int:
    found, often = np.unique(of, return_counts=True)
    return int(found[int(np.argmax(often))])
