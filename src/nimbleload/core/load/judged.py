"""Why a block is as full as it is: which of its bounds stands in the way, and so what could help at all."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

JudgedKind = Literal["unknown", "live", "chain", "overhead", "work", "waiting", "fits"]

# The host's own time is the matter from this share of the work on.
MUCH_OVERHEAD = 1 / 3


class Rung(NamedTuple):
    """One buffer size of the ladder at one moment: loads as fractions, round trip in seconds.

    `chain` is the longest chain and `spread` the least that an even spread could reach. `live` is the load of the live
    thread alone, 0 where the host computes everything at one go. `word` is "fits", "tight" or "overload"; "not known"
    where no plugin has a figure, and the loads mean nothing. `heard` is when whoever is recorded hears himself, through
    the device and his own chain (seconds; 0 where nobody is), and `is_late` whether that is later than the device's
    settings allow.
    """

    buffer: int
    load: float
    chain: float
    spread: float
    round_trip: float
    word: str
    live: float = 0.0
    heard: float = 0.0
    is_late: bool = False


class Judged(NamedTuple):
    """What stands in the way of a moment's block at one buffer size.

    `kind`: *live*: the live thread alone is over the limit. *chain*: the longest chain is; more cores do not help.
    *work*: even perfectly spread there is too much; moving it does not help. *waiting*: both would fit. *overhead*: too
    much work, most of it the host's own. `over` is by how much the bound that stands in the way is above the limit, as
    a share of the deadline (of *waiting*: the load itself). `missing` and `known` count live plugins without and with a
    figure; `larger` is the next larger buffer that keeps the limit, `late` the next that would, but at which whoever
    is recorded hears himself too late.
    """

    kind: JudgedKind
    rung: Rung
    over: float
    missing: int
    known: int
    overhead: float
    larger: Rung | None
    late: Rung | None = None

    @property
    def is_overload(self) -> bool:
        return self.kind != "unknown" and self.rung.load > 1


def judge(
    rung: Rung, limit: float, threads: int, missing: int, known: int, overhead: float, rungs: Sequence[Rung] = ()
) -> Judged:
    """The judgement on a moment. `rungs` is the whole ladder, `overhead` the host's own share of the work (0 … 1).

    A bound over the limit stands in the way whatever the waiting; of several the highest.
    """
    fitting = [r for r in rungs if r.buffer > rung.buffer and r.load <= limit]
    larger = next((r for r in fitting if not r.is_late), None)
    late = next((r for r in fitting if r.is_late), None) if larger is None else None

    def found(kind: JudgedKind, over: float) -> Judged:
        return Judged(kind, rung, over, missing, known, overhead, larger, late)

    if known == 0 and missing > 0:
        return found("unknown", 0.0)
    if rung.load <= limit:
        return found("fits", 0.0)
    if rung.live > limit and rung.live >= max(rung.chain, rung.spread) - 1e-9:
        return found("live", rung.live - limit)
    if rung.chain > limit and rung.chain > rung.spread and threads > 1:
        return found("chain", rung.chain - limit)
    if rung.spread > limit:
        return found("overhead" if overhead >= MUCH_OVERHEAD else "work", rung.spread - limit)
    return found("waiting", rung.load - limit)
