"""The ceiling: the load that this computer holds without a late block, at one buffer size; and how it is looked for.

Steps of a twentieth of the deadline, halved in: each is held for some seconds, and is held or missed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

STEP = 0.05
LOWEST, HIGHEST = 0.10, 1.0


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
    """What was held at one buffer size (samples) and rate (Hz) on so many threads, each trial for `seconds`.

    `held` is the highest load that was (0: none), `missed` the lowest that was not (above 1: none).
    """

    buffer: int
    rate: int
    threads: int
    seconds: float
    held: float
    missed: float
    trials: tuple[Held, ...] = ()

    @property
    def is_known(self) -> bool:
        """Whether anything was held, or everything missed."""
        return bool(self.trials)


class Search:
    """Looks for the ceiling by halving: `next` is the load to try, None when it is found.

    A load is missed when it was missed twice: one interruption in some seconds does not make a ceiling.
    """

    def __init__(self) -> None:
        self._loads = [round(LOWEST + STEP * k, 4) for k in range(round((HIGHEST - LOWEST) / STEP) + 1)]
        self._low, self._high = -1, len(self._loads)
        self._once: set[float] = set()
        self.trials: list[Held] = []

    @property
    def next(self) -> float | None:
        """The load to try next (share of the deadline)."""
        if self._high - self._low <= 1:
            return None
        return self._loads[(self._low + self._high) // 2]

    def tell(self, trial: Held) -> None:
        """Takes in the outcome of a trial at the load that `next` named."""
        place = self._loads.index(trial.load)
        self.trials.append(trial)
        if not trial.late:
            self._low = place
        elif trial.load in self._once:
            self._high = place
        else:
            self._once.add(trial.load)

    @property
    def held(self) -> float:
        return self._loads[self._low] if self._low >= 0 else 0.0

    @property
    def missed(self) -> float:
        return self._loads[self._high] if self._high < len(self._loads) else HIGHEST + STEP

    def steps(self) -> int:
        """How many trials it takes at most."""
        return 2 * len(self._loads).bit_length()


def by_buffer(found: Sequence[Ceiling], rate: int, threads: int) -> dict[int, Ceiling]:
    """Those of one rate and so many threads, by buffer size."""
    return {each.buffer: each for each in found if each.rate == rate and each.threads == threads and each.is_known}


def merged(old: Sequence[Ceiling], new: Sequence[Ceiling]) -> Iterator[Ceiling]:
    """The old ones, with the new ones in the place of those for the same buffer size, rate and threads."""
    places = {(each.buffer, each.rate, each.threads) for each in new}
    yield from (each for each in old if (each.buffer, each.rate, each.threads) not in places)
    yield from new
