"""Why blocks of a rehearsal were late: what each took beyond a usual one, and where."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

# What is at least such a part of what a block was late by has made it late.
HALF = 0.5
# Where more of the blocks are late it is the work as a rule, and none of them is usual.
TOO_MANY = 0.5
# The columns of what is counted of each thread in each block: for how long it had no core (ns), pages that it had to
# read from the disk, how often it slept of its own accord, how often it had to give way.
AWAY, READ, SLEPT, PUSHED, COUNTED = range(5)


class Missed(msgspec.Struct, frozen=True):
    """Late blocks by what made them so.

    They were `woken` late; `read` memory from the disk, `waited` without computing, had to `give_way` to other threads
    or were `taken` off their core by nothing that this system schedules; took `longer` in one plugin, or were `slower`
    in all of them; nothing in plugins tells of the `rest`; or the work as a rule is `too_much` and no block is usual.
    Told by plugin (id of its use) is in how many blocks it took longer (`longer_in`), or slept (`slept_in`).
    """

    woken: int = 0
    read: int = 0
    waited: int = 0
    give_way: int = 0
    taken: int = 0
    longer: int = 0
    slower: int = 0
    rest: int = 0
    too_much: int = 0
    longer_in: dict[str, int] = {}
    slept_in: dict[str, int] = {}

    @property
    def computers(self) -> int:
        """How many the computer made late, and not what was played."""
        return self.woken + self.give_way + self.taken + self.slower


def why_missed(
    period: float, due: NDArray[np.int64], begin: NDArray[np.int64], end: NDArray[np.int64],
    use_times: NDArray[np.int32], held: NDArray[np.int64], uses: list[str],
) -> Missed:  # fmt: skip
    """Why blocks (B) were late that lasted `period` (ns): when each was due, began and ended (ns), what each plugin
    took in it (use_times: B, U, ns; `uses` are their ids), and what was counted of each thread (held: B, T, COUNTED).
    """
    by = end - due - round(period)
    late = by > 0
    if not late.any():
        return Missed()
    if late.mean() > TOO_MANY:
        return Missed(too_much=int(late.sum()))
    later = begin - due - np.median((begin - due)[~late])
    most = np.argmax(held[:, :, AWAY], axis=1)
    there = held[np.arange(len(most)), most]
    away = there[:, AWAY] - np.median(there[~late, AWAY])
    more = np.maximum(use_times - np.median(use_times[~late], axis=0), 0.0)
    whole = more.sum(axis=1)
    top = np.argmax(more, axis=1) if len(uses) else np.zeros(len(by), np.int64)
    dearest = more[np.arange(len(top)), top] if len(uses) else whole
    left = late.copy()

    def those(which: NDArray[np.bool_]) -> NDArray[np.bool_]:
        found = left & which
        left[found] = False
        return found

    enough = HALF * by
    began = those(later >= enough)
    off = those(away >= enough)
    read, waited = off & (there[:, READ] > 0), off & (there[:, READ] == 0) & (there[:, SLEPT] > 0)
    pushed = off & ~read & ~waited & (there[:, PUSHED] > 0)
    longer = those((dearest >= enough) & (2 * dearest > whole))
    slower = those(whole >= enough)

    def inside(which: NDArray[np.bool_]) -> dict[str, int]:
        found, often = np.unique(top[which], return_counts=True)
        return {uses[use]: int(times) for use, times in zip(found.tolist(), often.tolist(), strict=True)}

    # A thread that sleeps beside the plugins has waited for none of them.
    slept = (read | waited) & (2 * dearest >= away)
    kinds = began, read, waited, pushed, off & ~(read | waited | pushed), longer, slower, left
    woken, of_disk, asleep, gave_way, taken, in_one, in_all, rest = (int(each.sum()) for each in kinds)
    return Missed(woken, of_disk, asleep, gave_way, taken, in_one, in_all, rest, 0, inside(longer), inside(slept))
