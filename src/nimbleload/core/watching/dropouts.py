"""Dropouts of a watched host: late blocks that are heard as one, each with what made them so and what else ran then."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .blocks import Blocks, Lane, Seen, lanes
from .larger import still_late
from .late import Reasons, reasons
from .outside import taken_outside
from .records import Others
from .rhythm import LATE_BY
from .stretches import until
from .xruns import Xruns, xruns

# Late blocks with no longer between them (ns) are one dropout, which is looked at after so long at the latest (ns).
GAP, LONGEST = 250_000_000, 3_000_000_000
# A thread was at work beside a block if it computed for so much of it; a program, if it took so much of a core then.
AT_WORK, BUSY = 0.1, 0.05
# A device does if it interrupts so many times as often as it usually does (the median), and so often a second more.
TIMES_AS_OFTEN, MORE_OFTEN = 4.0, 200.0
# So many blocks of a dropout are shown.
SHOWN = 6
What = Literal["thread", "program", "started", "device"]


class Beside(NamedTuple):
    """A thread of the host or another program that was at work when blocks were late, what a program had `started` that
    ended at once, or a device that interrupted a lot; and in which part of all other blocks, or seconds, it does."""

    name: str
    what: What
    usually: float


class Dropout(NamedTuple):
    """Late blocks close to each other. `time` is when the first was due, `ended` when the last was through (ns),
    `period` how long a block may take (seconds), `blocks` how many were late, `by` how late what was latest (seconds),
    `load` how full the fullest was.

    In `still` larger buffers (see `larger.TIMES`) it would have come all the same; empty where that is not known.
    `why` is what made them so; None where only the sound server gave one up (`xruns` times), for which the thread
    `absent` (its place; −1: none) should have computed. `lanes` are those of its first blocks. `day` is its time of day
    (Unix time; 0: not known), `played` after how many seconds of playing it came; `taken` is which share of the
    engine's time on cores was taken from outside in the seconds around it (see `outside`; 0 where it is not known).
    """

    time: int
    ended: int
    period: float
    blocks: int
    by: float
    load: float
    xruns: int
    why: Reasons | None
    absent: int
    beside: tuple[Beside, ...]
    lanes: tuple[Lane, ...]
    still: tuple[bool, ...] = ()
    day: float = 0.0
    played: float = 0.0
    taken: float = 0.0


def first_of(blocks: Blocks, since: int, upto: int) -> int:
    """Up to when dropouts between two times (ns) are over: before one that may still go on, unless it has for long."""
    at = np.flatnonzero((blocks.late > 0) & (blocks.start > since) & (blocks.start <= upto))
    if not len(at) or blocks.end[at[-1]] + GAP < upto:
        return upto
    first = int(blocks.start[_groups(blocks, at)[-1][0]]) - 1
    return first if upto - first < LONGEST else upto


def dropouts(of: Seen, since: int, upto: int) -> list[Dropout]:
    """Those whose blocks began after one time, up to another (ns), in order."""
    blocks = of.blocks
    if blocks is None:
        return []
    told = xruns(of)
    at = np.flatnonzero((blocks.late > 0) & (blocks.start > since) & (blocks.start <= upto))
    late_by = _late_by(blocks) if len(at) else np.zeros(0)
    found = [_of_late(of, blocks, group, told, late_by) for group in _groups(blocks, at)]
    for place in np.flatnonzero(~told.is_late):
        block = int(told.places[place])
        if since < blocks.start[block] <= upto:
            found.append(_of_server(of, blocks, block, int(told.absent[place])))
    taken = taken_outside(of) or 0.0 if found else 0.0
    return [each._replace(taken=taken) for each in sorted(found, key=lambda dropout: dropout.time)]


def _groups(blocks: Blocks, at: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """The places of late blocks, those together that are heard as one."""
    if not len(at):
        return []
    return np.split(at, np.flatnonzero(blocks.start[at[1:]] - blocks.end[at[:-1]] > GAP) + 1)


def _of_late(
    of: Seen, blocks: Blocks, group: NDArray[np.int64], told: Xruns, late_by: NDArray[np.float64]
) -> Dropout:  # fmt: skip
    which = np.zeros(len(blocks.late), np.bool_)
    which[group] = True
    by = float(late_by[group].max()) / 1e9
    given_up = int(np.isin(told.places[told.is_late], group).sum())
    number = int(blocks.late[group].sum())
    shown = group[: np.searchsorted(group, group[0] + SHOWN)]
    begun, ended = int(blocks.tick[group[0]]), int(blocks.end[group[-1]])
    return Dropout(
        begun, ended, blocks.period, number, by, float(blocks.load[group].max()), given_up,
        reasons(of, which), -1, _beside(of, blocks, int(group[0])), _lanes(of, blocks, int(group[0]), int(shown[-1])),
        still_late(blocks, int(group[0]), int(group[-1])),
    )  # fmt: skip


def _late_by(blocks: Blocks) -> NDArray[np.float64]:
    """How late each block was, or the latest of those computed in one go with it that had no start of their own (B,
    ns). How long each of them took is not known: as long as usual ones, all but the first."""
    period, is_late = blocks.period * 1e9, blocks.late > 0
    took = (blocks.end - blocks.start)[~is_late]
    usual = float(np.median(took)) if len(took) else period
    covered = blocks.covered
    beyond = blocks.end - blocks.tick - period
    first, last = beyond - (covered - 1) * usual, beyond - (covered - 1) * period
    # Who was through in time and slept on begins the next one late.
    slept = np.append(blocks.start[1:] - blocks.tick[:-1] - 2 * period + usual, 0.0)
    late = np.where(beyond > LATE_BY, np.maximum(first, last), np.where(is_late, slept, 0.0))
    return np.asarray(np.maximum(late, 0.0), np.float64)


def _of_server(of: Seen, blocks: Blocks, block: int, absent: int) -> Dropout:
    begun, ended = int(blocks.tick[block]), int(blocks.end[block])
    return Dropout(
        begun, ended, blocks.period, 0, 0.0, float(blocks.load[block]), 1, None, absent,
        _beside(of, blocks, block), _lanes(of, blocks, block, block),
    )  # fmt: skip


def _lanes(of: Seen, blocks: Blocks, first: int, last: int) -> tuple[Lane, ...]:
    begin = int(blocks.tick[first])
    end = min(int(blocks.end[last]), begin + round(SHOWN * blocks.period * 1e9))
    return tuple(lanes(of, begin, max(end, begin + round(blocks.period * 1e9))))


def _beside(of: Seen, blocks: Blocks, block: int) -> tuple[Beside, ...]:
    """What was at work beside a block from when it was due until it should have been through."""
    found = [*_threads(of, blocks, block), *_looked_at(of.recording.others, int(blocks.tick[block]))]
    return tuple(sorted(found, key=lambda each: each.usually))


def _threads(of: Seen, blocks: Blocks, block: int) -> Iterator[Beside]:
    """Threads of the host outside its engine."""
    usual = blocks.late == 0
    usual[block] = False
    by_name: dict[str, NDArray[np.bool_]] = {}
    length = round(blocks.period * 1e9)
    begin = np.round(blocks.tick).astype(np.int64)
    for k, role in enumerate(of.roles):
        if role != "engine" and len(of.runs[k].begin):
            own = of.runs[k].begin, of.runs[k].end
            worked = np.asarray(until(own, begin + length) - until(own, begin) >= AT_WORK * length, np.bool_)
            name = of.recording.threads[k].name
            by_name[name] = by_name[name] | worked if name in by_name else worked
    for name, worked in by_name.items():
        if worked[block]:
            yield Beside(name, "thread", float(worked[usual].mean()) if usual.any() else 1.0)


def _looked_at(looks: tuple[Others, ...], time: int) -> Iterator[Beside]:
    """Other programs and devices, as far as looks about once a second tell."""
    at = next((place for place, look in enumerate(looks) if look.time >= time), None)
    # What ran before the first look is not known from when on.
    if not at:
        return

    def usually(of: list[float], least: float) -> float:
        """In which part of the other looks there is so much of it."""
        return (sum(each >= least for each in of) - 1) / max(len(looks) - 1, 1)

    for name, took in looks[at].took.items():
        if took >= BUSY:
            yield Beside(name, "program", usually([look.took.get(name, 0.0) for look in looks], BUSY))
    for name, took in looks[at].started.items():
        if took >= BUSY:
            yield Beside(name, "started", usually([look.started.get(name, 0.0) for look in looks], BUSY))
    for name, now in looks[at].interrupted.items():
        if now >= MORE_OFTEN:
            often = [look.interrupted.get(name, 0.0) for look in looks]
            usual = float(np.median(often))
            if now >= (lot := max(TIMES_AS_OFTEN * usual, usual + MORE_OFTEN)):
                yield Beside(name, "device", usually(often, lot))
