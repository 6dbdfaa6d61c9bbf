"""Who takes how much of a running host: each plugin, the host itself, libraries, the kernel; with what certainty.

A thread is looked at after so much CPU time of its own, whatever it does: each look stands for that much time. How many
looks fall on a plugin is chance, and the interval says how much (Wilson 1927, 95 %).
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from .blocks import Role, Seen
from .records import KERNEL, WAITING

Z, CHANCE = 1.959963984540054, 0.05
# The roles of threads that compute what is heard.
COMPUTES: tuple[Role, ...] = ("engine", "ahead")
# The worst blocks are one in twenty.
WORST = 0.05


class Share(NamedTuple):
    """What one owner takes, as a share of one core: `core`, between `low` and `high` (95 %), from `looks` looks.

    `worst` is the same within the worst twentieth of the blocks (0 without blocks). `threads` are the places of the
    threads it was met on. `owner` is a plugin file's number, or one of HOST, LIBRARY, NOBODY, KERNEL
    and WAITING.
    """

    owner: int
    core: float
    low: float
    high: float
    worst: float
    looks: int
    threads: tuple[int, ...]


class Part(NamedTuple):
    """What the threads of one role take together: a share of one core, how often they had to give way, and for how much
    of it they were only `waiting`."""

    role: Role
    core: float
    pushed: int
    threads: int
    waiting: float


def shares(of: Seen, role: Role | None = "engine") -> list[Share]:
    """Who takes how much in the threads of one role (None: in all), the most first.

    Without a cycle there is no engine: then all threads count.
    """
    if role == "engine" and of.blocks is None:
        role = None
    wanted = COMPUTES if role == "engine" else (role,)
    chosen = [k for k, each in enumerate(of.roles) if role is None or each in wanted]
    threads = [of.recording.threads[k] for k in chosen]
    if not threads or of.recording.seconds <= 0:
        return []
    owner = np.concatenate([each.look_owner for each in threads])
    weight = np.concatenate([each.look_weight for each in threads])
    time = np.concatenate([each.look_time for each in threads])
    place = np.concatenate([np.full(len(t.look_owner), k) for k, t in zip(chosen, threads, strict=True)])
    in_worst, worst_seconds = _in_worst(of, time)
    wall = of.recording.seconds
    found = []
    for each in np.unique(owner):
        mine = owner == each
        seconds = float(weight[mine].sum()) / 1e9
        low, high = wilson(int(mine.sum()), len(owner))
        total = float(weight.sum()) / 1e9
        worst = float(weight[mine & in_worst].sum()) / 1e9 / worst_seconds if worst_seconds else 0.0
        found.append(
            Share(
                int(each), seconds / wall, low * total / wall, high * total / wall, worst, int(mine.sum()),
                tuple(int(k) for k in np.unique(place[mine])),
            )
        )  # fmt: skip
    busy = sum(_busy(of, k) for k in chosen if k not in of.awake)
    kernel = busy - sum(float(of.recording.threads[k].look_weight.sum()) / 1e9 for k in chosen if k not in of.awake)
    if kernel > 0.005 * wall:
        found.append(Share(KERNEL, kernel / wall, 0.0, kernel / wall, 0.0, 0, tuple(chosen)))
    waiting = _waiting(of, chosen) / wall
    found = [_more(each, waiting - each.core) if each.owner == WAITING else each for each in found]
    return sorted(found, key=lambda share: -share.core)


def _more(share: Share, core: float) -> Share:
    """The same with so much more of a core, which is not by chance."""
    return share._replace(core=share.core + core, low=share.low + core, high=share.high + core)


def _busy(of: Seen, place: int) -> float:
    """For how long a thread had a core (seconds)."""
    return float((of.runs[place].end - of.runs[place].begin).sum()) / 1e9


def _waiting(of: Seen, places: list[int]) -> float:
    """For how long threads had a core and only waited (seconds): by looks, and all that these do not explain of those
    that never sleep, which give way again and again."""
    found = 0.0
    for k in places:
        thread = of.recording.threads[k]
        found += float(thread.look_weight[thread.look_owner == WAITING].sum()) / 1e9
        if k in of.awake:
            found += max(_busy(of, k) - float(thread.look_weight.sum()) / 1e9, 0.0)
    return found


def _in_worst(of: Seen, time: np.ndarray) -> tuple[np.ndarray, float]:
    """Which looks fell into the worst blocks, and how long those last together (seconds)."""
    blocks = of.blocks
    if blocks is None or not len(blocks.load):
        return np.zeros(len(time), np.bool_), 0.0
    count = max(round(WORST * len(blocks.load)), 1)
    worst = np.zeros(len(blocks.load) + 1, np.bool_)
    worst[np.argsort(-blocks.load, kind="stable")[:count]] = True
    place = np.searchsorted(blocks.start, time, "right") - 1
    inside = (place >= 0) & (time < np.append(blocks.end, 0)[place])
    return worst[place] & inside, count * blocks.period


def wilson(hits: int, of: int) -> tuple[float, float]:
    """The interval of a share that was met so often of so many times (95 %), after Wilson; (0, 1) of none."""
    if of == 0:
        return 0.0, 1.0
    share = hits / of
    middle = (share + Z * Z / (2 * of)) / (1 + Z * Z / of)
    half = Z / (1 + Z * Z / of) * np.sqrt(share * (1 - share) / of + Z * Z / (4 * of * of))
    return max(float(middle - half), 0.0), min(float(middle + half), 1.0)


def parts(of: Seen) -> list[Part]:
    """What the engine, what is computed ahead, the window, the disk threads and the others take, against one core."""
    found = []
    roles: tuple[Role, ...] = (*COMPUTES, "window", "disk", "other")
    for role in roles:
        places = [k for k, each in enumerate(of.roles) if each == role]
        pushed = sum(int(of.turns[k].pushed.sum()) for k in places)
        if places:
            seconds = max(of.recording.seconds, 1e-9)
            busy, waiting = sum(_busy(of, k) for k in places), _waiting(of, places)
            found.append(Part(role, busy / seconds, pushed, len(places), waiting / seconds))
    return found


def computing(of: Seen) -> float:
    """What all threads that compute what is heard take together, as a share of one core, but for busy waiting."""
    return sum(part.core - part.waiting for part in parts(of) if part.role in COMPUTES)


class Change(NamedTuple):
    """What an owner takes before and after (shares of one core), and whether the difference is more than chance: of all
    that are compared together none is said to be that is not, 95 of 100 times."""

    name: str
    before: float
    after: float
    is_real: bool

    @property
    def difference(self) -> float:
        return self.after - self.before


def changes(before: dict[str, Share], after: dict[str, Share], slower: float = 1.0) -> list[Change]:
    """Row by row what has changed between two recordings, by name; the largest difference first. What is chance in so
    many rows is told after Holm (1979): the surest must be surer the more rows there are. Where cores computed so many
    times `slower` after, what took up to so many times as long is no difference: work that waits for memory does not
    follow the clock."""
    found, chance = [], []
    for name in {**before, **after}:
        old, new = before.get(name), after.get(name)
        one, other = old.core if old else 0.0, new.core if new else 0.0
        # Half widths of independent intervals add up as squares.
        spread = max(float(np.hypot(_half(old), _half(new))), 1e-9)
        found.append(Change(name, one, other, False))
        beyond = max(min(one, slower * one) - other, other - max(one, slower * one), 0.0)
        chance.append(math.erfc(Z * beyond / spread / math.sqrt(2)))
    for left, place in enumerate(np.argsort(chance, kind="stable").tolist()):
        if chance[place] > CHANCE / (len(found) - left):
            break
        found[place] = found[place]._replace(is_real=True)
    return sorted(found, key=lambda change: (-abs(change.difference), change.name))


def _half(share: Share | None) -> float:
    return max(share.high - share.core, share.core - share.low) if share is not None else 0.0
