"""Who feeds whom: the strips of a session as a directed graph, in an order in which they can be computed."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from .session import Session, SessionError
from .strips import Strip


class Graph(NamedTuple):
    """A task for each strip, S in all, in session order.

    `successors[first[i]:first[i + 1]]` (int32) are the tasks that task i feeds; `waits` (S, int32) counts how many
    feed each task; `order` (S, int32) lists the tasks so that every one comes after all that feed it. With `listed`, of
    the tasks that are ready the host takes the one that comes first in the session, else the most urgent one.
    """

    ids: tuple[str, ...]
    first: NDArray[np.int32]
    successors: NDArray[np.int32]
    waits: NDArray[np.int32]
    order: NDArray[np.int32]
    listed: bool = False

    def fed_by(self, task: int) -> NDArray[np.int32]:
        """The tasks that one feeds."""
        return self.successors[self.first[task] : self.first[task + 1]]


def targets(strip: Strip) -> list[str]:
    """The ids of the strips that this one feeds through output and sends that are on."""
    fed = [strip.output] if strip.output is not None else []
    fed.extend(send.target for send in strip.sends if send.enabled)
    return fed


def edges(session: Session) -> set[tuple[int, int]]:
    """All (feeding, fed) pairs of strip indices: outputs, sends and side-chains.

    SessionError names a strip whose output, send or side-chain leads to a strip that does not exist.
    """
    index = {strip.id: i for i, strip in enumerate(session.strips)}
    if len(index) != len(session.strips):
        seen: set[str] = set()
        double = next(s for s in session.strips if s.id in seen or seen.add(s.id))  # type: ignore[func-returns-value]
        raise SessionError(f"two strips share the id {double.id!r}; one of them is {double.name!r}")
    pairs: set[tuple[int, int]] = set()
    for i, strip in enumerate(session.strips):
        for target in targets(strip):
            if target not in index:
                raise SessionError(f"{strip.name!r} feeds a strip that does not exist: {target!r}")
            pairs.add((i, index[target]))
        for use in strip.uses():
            if use.sidechain is not None and use.enabled:
                if use.sidechain not in index:
                    raise SessionError(
                        f"{use.label!r} on {strip.name!r} listens to a strip that does not exist: {use.sidechain!r}"
                    )
                pairs.add((index[use.sidechain], i))
    return pairs


def build(session: Session) -> Graph:
    """The task graph of a session. SessionError names the strips of a cycle, or a missing target."""
    count = len(session.strips)
    pairs = sorted(edges(session))
    fed: list[list[int]] = [[] for _ in range(count)]
    waits = np.zeros(count, np.int32)
    for source, target in pairs:
        fed[source].append(target)
        waits[target] += 1
    left = waits.copy()
    order = [i for i in range(count) if left[i] == 0]
    for task in order:  # grows while it is read: Kahn's algorithm
        for target in fed[task]:
            left[target] -= 1
            if left[target] == 0:
                order.append(target)
    if len(order) < count:
        names = [session.strips[i].name for i in find_cycle(fed, left)]
        raise SessionError("the routing runs in a circle: " + " → ".join([*names, names[0]]))
    lengths = [len(f) for f in fed]
    first = np.concatenate(([0], np.cumsum(lengths, dtype=np.int64))).astype(np.int32)
    flat = np.array([t for f in fed for t in f], np.int32)
    ids, ordered = tuple(s.id for s in session.strips), np.array(order, np.int32)
    return Graph(ids, first, flat, waits, ordered, session.host.listed)


def find_cycle(fed: list[list[int]], left: NDArray[np.int32]) -> list[int]:
    """One cycle among the tasks that never became ready (`left` > 0), as indices in the order they feed."""
    feeders: dict[int, int] = {}
    for source, fed_by_source in enumerate(fed):
        if left[source] > 0:
            for target in fed_by_source:
                if left[target] > 0:
                    feeders[target] = source
    # A task that never became ready has a feeder that never did: walking back must close a circle.
    task = next(i for i in range(len(fed)) if left[i] > 0)
    path: list[int] = []
    while task not in path:
        path.append(task)
        task = feeders[task]
    return path[path.index(task) :][::-1]


def upstream(session: Session, strip_id: str) -> set[str]:
    """The ids of all strips whose signal reaches this one, itself included."""
    pairs = edges(session)
    ids = [strip.id for strip in session.strips]
    feeders: dict[int, list[int]] = {}
    for source, target in pairs:
        feeders.setdefault(target, []).append(source)
    found = {ids.index(strip_id)}
    waiting = list(found)
    while waiting:
        for source in feeders.get(waiting.pop(), ()):
            if source not in found:
                found.add(source)
                waiting.append(source)
    return {ids[i] for i in found}
