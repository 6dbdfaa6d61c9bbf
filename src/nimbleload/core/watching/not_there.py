"""Memory that was not there when a host's engine touched it: read from the disk, or new, for which the system stops the
thread and finds a page."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Blocks, Seen
from .records import Times


class NotThere(NamedTuple):
    """What the engine's threads touched: how often memory was `read` from the disk, for how long they slept for it at
    most (`longest`, seconds) and all together (`slept`), and whose it was mostly (`reader`); how many `new` pages there
    were a second, and who touched most of them (`asks`). Owners as in `Thread.look_owner`, None if it is nobody
    mostly."""

    read: int
    longest: float
    slept: float
    reader: int | None
    new: float
    asks: int | None


def not_there(of: Seen) -> NotThere:
    """What the engine's threads touched that was not there; without a cycle all threads count."""
    places = of.engine if of.blocks is not None else list(range(len(of.roles)))
    _, pages, owner = touches(of, places)
    slept = [wait for k in places for wait in (of.runs[k].begin[1:] - of.runs[k].end[:-1])[of.runs[k].read[:-1]]]
    is_new = pages > 0
    seconds = max(of.recording.seconds, 1e-9)
    return NotThere(
        int((~is_new).sum()), max(slept, default=0) / 1e9, sum(slept) / 1e9, mostly(owner[~is_new]),
        float(pages.sum()) / seconds, mostly(owner[is_new], pages[is_new]),
    )  # fmt: skip


def touches(of: Seen, places: list[int]) -> tuple[Times, Times, Times]:
    """What these threads touched: when, how many new pages, whose (F each)."""
    if not places:
        return (np.zeros(0, np.int64),) * 3
    threads = [of.recording.threads[k] for k in places]
    time, pages, owner = (
        np.concatenate([getattr(each, f"fault_{name}") for each in threads]) for name in ("time", "pages", "owner")
    )
    return time, pages, owner


def mostly(owner: Times, weight: Times | NDArray[np.float64] | None = None) -> int | None:
    """The owner of more than a half, by weight if there is one; None if there is none."""
    owners, at = np.unique(owner, return_inverse=True)
    times = np.bincount(at, weight, len(owners))
    if not len(owners) or 2 * times.max() <= times.sum():
        return None
    return int(owners[int(np.argmax(times))])


def within(blocks: Blocks, chosen: NDArray[np.bool_], times: Times) -> NDArray[np.bool_]:
    """Which times fall into chosen blocks, each of which goes on to the start of the next."""
    place = np.searchsorted(blocks.start, times, "right") - 1
    return (place >= 0) & chosen[np.maximum(place, 0)]
