"""Work that waits for other work, as much of it at once as there are cores, and what comes of it taken in its order."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from queue import SimpleQueue
from typing import NamedTuple

from .asked import Asked

CORES = len(os.sched_getaffinity(0))
# So many pieces behind the first that has not ended are looked at: those that wait are passed by.
AHEAD = 2 * CORES + 2


class Work(NamedTuple):
    """One piece: what `begin` gives tells which share of it is done, in a thread of its own; `end` takes what came of
    it. It is begun when the pieces that it `waits` for (their numbers, lower than its own) have ended. It counts as so
    much of all as its `weight`."""

    waits: Collection[int]
    begin: Callable[[], Callable[[], Iterator[float]]]
    end: Callable[[], None]
    weight: float = 1.0


def in_order(pieces: Sequence[Work], has_room: Callable[[], bool], asked: Asked) -> Iterator[float]:
    """Does all pieces; tells which share of all is done. They end one after the other, in their order, in the caller's
    thread, where they begin, too. Another one is begun beside only while it `has_room`.

    The first exception in a piece is raised when all that run have ended, which are `asked` to stop then.
    """
    told: SimpleQueue[tuple[int, float | Exception | None]] = SimpleQueue()
    shares, begun, through, ended = [0.0] * len(pieces), set[int](), set[int](), 0
    total = sum(piece.weight for piece in pieces)

    def run(number: int, doing: Callable[[], Iterator[float]]) -> None:
        try:
            for share in doing():
                told.put((number, share))
            told.put((number, None))
        except Exception as error:
            told.put((number, error))

    with ThreadPoolExecutor(CORES, "render") as pool:
        try:
            while ended < len(pieces):
                for number in range(ended, min(len(pieces), ended + AHEAD)):
                    is_free = number not in begun and max(pieces[number].waits, default=-1) < ended
                    if is_free and (len(begun) == len(through) or has_room()):
                        pool.submit(run, number, pieces[number].begin())
                        begun.add(number)
                number, what = told.get()
                if isinstance(what, Exception):
                    raise what
                shares[number] = 1.0 if what is None else what
                if what is None:
                    through.add(number)
                while ended in through:
                    pieces[ended].end()
                    ended += 1
                yield sum(share * piece.weight for share, piece in zip(shares, pieces, strict=True)) / total
        finally:
            asked.stop()
            pool.shutdown(wait=False, cancel_futures=True)
