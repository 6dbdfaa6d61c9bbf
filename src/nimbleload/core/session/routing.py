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
    `goes_on` (S, int32) is the task that a core computes next without a break, −1 for none: the later part of a strip
    that is cut for a send. `places` (S, int32) are the tasks' places in the host's list: the parts of a cut strip stay
    in its place.
    """

    ids: tuple[str, ...]
    first: NDArray[np.int32]
    successors: NDArray[np.int32]
    waits: NDArray[np.int32]
    order: NDArray[np.int32]
    goes_on: NDArray[np.int32]
    places: NDArray[np.int32]
    listed: bool = False

    def successors_of(self, task: int) -> NDArray[np.int32]:
        """The tasks that this one feeds."""
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
    return feeding(session) | {(source, i) for (i, _), source in listening(session).items()}


def feeding(session: Session) -> set[tuple[int, int]]:
    """The (feeding, fed) pairs of strip indices of outputs and sends: what is added up. SessionError as in `edges`."""
    index = {strip.id: i for i, strip in enumerate(session.strips)}
    pairs: set[tuple[int, int]] = set()
    for i, strip in enumerate(session.strips):
        for target in targets(strip):
            if target not in index:
                raise SessionError(f"{strip.name!r} feeds a strip that does not exist: {target!r}")
            pairs.add((i, index[target]))
    return pairs


def listening(session: Session) -> dict[tuple[int, str], int]:
    """The index of the strip that each plugin's side-chain hears, by the index of its own strip and its id.

    Who listens to a strip that is cut for a send hears the whole of it: its last part. SessionError as in `edges`.
    """
    index = {strip.id: i for i, strip in enumerate(session.strips)}
    last = {strip.part_of: i for i, strip in enumerate(session.strips) if strip.part_of is not None}
    found = {}
    for i, strip in enumerate(session.strips):
        if all(use.sidechain is None for use in strip.uses()):
            continue
        for use in strip.live_uses():
            if use.sidechain is None:
                continue
            if use.sidechain not in index:
                raise SessionError(
                    f"{use.label!r} on {strip.name!r} listens to a strip that does not exist: {use.sidechain!r}"
                )
            found[i, use.id] = last.get(use.sidechain, index[use.sidechain])
    return found


def _waiting_whole(session: Session, pairs: set[tuple[int, int]]) -> set[tuple[int, int]]:
    """What a later part of a cut strip waits for, so that the whole strip does: a host computes it in one go.

    Not where the part listens to what an earlier part of the same strip feeds: that would be a circle.
    """
    index = {strip.id: i for i, strip in enumerate(session.strips)}
    found: set[tuple[int, int]] = set()
    for source, target in pairs:
        root = session.strips[target].part_of
        if root is None or session.strips[source].id == root or session.strips[source].part_of == root:
            continue
        if source not in _downstream(index[root], pairs):
            found.add((source, index[root]))
    return found


def _downstream(task: int, pairs: set[tuple[int, int]]) -> set[int]:
    """All tasks that one reaches, itself included."""
    found = {task}
    while more := {target for source, target in pairs if source in found} - found:
        found |= more
    return found


def build(session: Session) -> Graph:
    """The task graph of a session. SessionError names the strips of a cycle, or a missing target."""
    count = len(session.strips)
    found = edges(session)
    pairs = sorted(found | _waiting_whole(session, found) if any(s.part_of for s in session.strips) else found)
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
    return Graph(ids, first, flat, waits, ordered, _going_on(session), _places(session), session.host.listed)


def _places(session: Session) -> NDArray[np.int32]:
    """Where each strip stands in the list, its later parts right behind it."""
    index = {strip.id: i for i, strip in enumerate(session.strips)}
    keys = [(index[s.part_of] if s.part_of is not None else i, i) for i, s in enumerate(session.strips)]
    found = np.empty(len(keys), np.int32)
    found[sorted(range(len(keys)), key=lambda i: keys[i])] = np.arange(len(keys))
    return found


def _going_on(session: Session) -> NDArray[np.int32]:
    """For each strip the part of the same strip that follows it; −1 for none."""
    found = np.full(len(session.strips), -1, np.int32)
    before = {strip.id: i for i, strip in enumerate(session.strips)}
    for i, strip in enumerate(session.strips):
        if strip.part_of is not None:
            found[before[strip.part_of]] = i
            before[strip.part_of] = i
    return found


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
