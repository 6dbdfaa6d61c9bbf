"""What a recording's file says of the time before its records: dropouts and seconds, as a page of JSON."""

from __future__ import annotations

from typing import Annotated, Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..core.watching.asleep import Met
from ..core.watching.blocks import Lane
from ..core.watching.dropouts import Beside, Dropout, What
from ..core.watching.history import Mark, Past, together
from ..core.watching.larger import TIMES
from ..core.watching.late import Late, Reasons
from ..core.watching.records import WAITING, Recording
from ..core.watching.took_longer import Took

# What an array can hold.
MOST = (1 << 63) - 1
NotNegative = Annotated[int, msgspec.Meta(ge=0, le=MOST)]
Time = Annotated[int, msgspec.Meta(ge=-MOST, le=MOST)]
Amount = Annotated[float, msgspec.Meta(ge=0, le=1e12)]
Sum = Annotated[float, msgspec.Meta(ge=-1e18, le=1e18)]
# A Unix time that a calendar of this age knows.
Day = Annotated[float, msgspec.Meta(ge=0, le=1 << 33)]
Share = Annotated[float, msgspec.Meta(ge=0, le=1)]
Length = Annotated[float, msgspec.Meta(gt=0, le=1e6)]


class SecondPage(msgspec.Struct, frozen=True):
    """A second: when it began (ns), how full the fullest of its blocks was, how many were late."""

    time: Time
    fullest: Amount
    late: NotNegative


class MarkPage(msgspec.Struct, frozen=True):
    """When somebody said that he hears a dropout (ns; Unix time, 0: not known), whether a block was late just before,
    and how full the fullest was."""

    time: Time
    day: Day
    is_dropout: bool
    fullest: Amount


class BesidePage(msgspec.Struct, frozen=True):
    """A thread, program or device at work meanwhile, and in which part of the other time it is."""

    name: str
    what: What
    usually: Share


class LanePage(msgspec.Struct, frozen=True):
    """What a thread (its place in `threads`) did in the first blocks: when it had a core (ns), which of these stretches
    ended since it gave way, or since memory was read; and looks at it."""

    thread: NotNegative
    begin: tuple[Time, ...] = ()
    end: tuple[Time, ...] = ()
    gave_way: tuple[bool, ...] = ()
    read: tuple[bool, ...] = ()
    look_time: tuple[Time, ...] = ()
    look_owner: tuple[int, ...] = ()


class TookPage(msgspec.Struct, frozen=True):
    """What was computed in the blocks that took longer, and in as many usual ones; see `Took`."""

    owner: tuple[int, ...]
    now: tuple[Sum, ...]
    then: tuple[Sum, ...]
    met: tuple[Sum, ...]
    asked: tuple[Sum, ...]
    blocks: NotNegative
    by: Sum
    pages: Sum
    more: Sum
    step: Sum


class WhyPage(msgspec.Struct, frozen=True):
    """How many blocks were late for which reason; whose memory was read from the disk, which thread (its place)
    computed meanwhile, at which clocks (Hz); who took longer; how often which plugin was met asleep, and for what
    (`asleep`), of so many times (`could`)."""

    after: NotNegative = 0
    woken: NotNegative = 0
    slept: NotNegative = 0
    read: NotNegative = 0
    pushed: NotNegative = 0
    waited: NotNegative = 0
    longer: NotNegative = 0
    reader: int | None = None
    meanwhile: NotNegative | None = None
    clocks: tuple[Amount, Amount] | None = None
    took: TookPage | None = None
    asleep: tuple[tuple[int, int, NotNegative], ...] = ()
    could: NotNegative = 0
    outside: NotNegative = 0


class DropoutPage(msgspec.Struct, frozen=True):
    """A dropout; see `Dropout`. `absent` is −1 for no thread, `still` is empty where it is not known."""

    time: Time
    ended: Time
    period: Length
    blocks: NotNegative
    by: Amount
    load: Amount
    xruns: NotNegative = 0
    why: WhyPage | None = None
    absent: int = -1
    beside: tuple[BesidePage, ...] = ()
    lanes: tuple[LanePage, ...] = ()
    still: tuple[bool, ...] = ()
    day: Day = 0.0
    played: Amount = 0.0
    taken: Share = 0.0


class PastPage(msgspec.Struct, frozen=True):
    """All of it; see `Past`."""

    begun: Time
    ended: Time
    played: Amount
    unseen: Amount
    blocks: NotNegative
    typical: Amount
    bad: Amount
    worst: Amount
    seconds: tuple[SecondPage, ...] = ()
    dropouts: tuple[DropoutPage, ...] = ()
    forgotten: NotNegative = 0
    marks: tuple[MarkPage, ...] = ()
    no_cycle: Amount = 0.0


def page_of(past: Past) -> PastPage:
    """What is written of it."""
    seconds = zip(past.second.tolist(), past.fullest.tolist(), past.late.tolist(), strict=True)
    return PastPage(
        past.begun, past.ended, past.played, past.unseen, past.blocks, past.typical, past.bad, past.worst,
        tuple(SecondPage(*each) for each in seconds), tuple(_dropout_page(each) for each in past.dropouts),
        past.forgotten, tuple(MarkPage(*each) for each in past.marks), past.no_cycle,
    )  # fmt: skip


def _dropout_page(of: Dropout) -> DropoutPage:
    lanes = (LanePage(lane.thread, *((*each.tolist(),) for each in lane[1:])) for lane in of.lanes)
    why = _why_page(of.why) if of.why is not None else None
    return DropoutPage(
        of.time, of.ended, of.period, of.blocks, of.by, of.load, of.xruns, why, of.absent,
        tuple(BesidePage(*each) for each in of.beside), tuple(lanes), of.still, of.day, of.played, of.taken,
    )  # fmt: skip


def _why_page(of: Reasons) -> WhyPage:
    late, asleep = of.late, tuple((*each, looks) for each, looks in of.asleep.often.items())
    took = _took_page(of.took) if of.took is not None else None
    return WhyPage(
        late.after, late.woken, late.slept, late.read, late.pushed, late.waited, late.longer, late.reader,
        late.meanwhile, late.clocks, took, asleep, of.asleep.could, late.outside,
    )  # fmt: skip


def _took_page(of: Took) -> TookPage:
    owner, now, then, met, asked = ((*each.tolist(),) for each in (of.owner, of.now, of.then, of.met, of.asked))
    return TookPage(owner, now, then, met, asked, of.blocks, of.by, of.pages, of.more, of.step)


def past_of(page: PastPage, of: Recording) -> Past:
    """What a page says, beside the recording that it belongs to. ValueError if the two do not fit together."""
    times = [each.time for each in page.seconds], [each.time for each in page.dropouts]
    is_over = all(each.time <= each.ended for each in page.dropouts)
    if page.ended < page.begun or not is_over or any(list(each) != sorted(each) for each in times):
        raise ValueError("what was seen before the records is not in order")
    second, late = (_times([getattr(each, name) for each in page.seconds]) for name in ("time", "late"))
    fullest = np.array([each.fullest for each in page.seconds], np.float64)
    found = tuple(_dropout(each, of) for each in page.dropouts)
    return Past(
        page.begun, page.ended, page.played, page.unseen, page.blocks, page.typical, page.bad, page.worst, second,
        fullest, late, found, page.forgotten, tuple(Mark(*msgspec.structs.astuple(each)) for each in page.marks),
        together([each.why for each in found]), page.no_cycle,
    )  # fmt: skip


def _dropout(page: DropoutPage, of: Recording) -> Dropout:
    _must_be_there(of, [page.absent], [each.thread for each in page.lanes])
    lanes = tuple(_lane(each, of) for each in page.lanes)
    beside = tuple(Beside(*msgspec.structs.astuple(each)) for each in page.beside)
    if page.still and len(page.still) != len(TIMES):
        raise ValueError("a dropout says of how many larger buffers nobody knows")
    return Dropout(
        page.time, page.ended, page.period, page.blocks, page.by, page.load, page.xruns,
        _why(page.why, of) if page.why is not None else None, page.absent, beside, lanes, page.still, page.day,
        page.played, page.taken,
    )  # fmt: skip


def _lane(page: LanePage, of: Recording) -> Lane:
    stretches = page.begin, page.end, page.gave_way, page.read
    if len({len(each) for each in stretches}) > 1 or len(page.look_time) != len(page.look_owner):
        raise ValueError("the lanes of a dropout do not fit together")
    _must_be_known(of, page.look_owner)
    return Lane(
        page.thread, _times(page.begin), _times(page.end), np.array(page.gave_way, np.bool_),
        np.array(page.read, np.bool_), _times(page.look_time), _times(page.look_owner),
    )  # fmt: skip


def _why(page: WhyPage, of: Recording) -> Reasons:
    _must_be_there(of, [] if page.meanwhile is None else [page.meanwhile])
    owners = [owner for owner, _, _ in page.asleep] + ([] if page.reader is None else [page.reader])
    _must_be_known(of, owners)
    if any(not 0 <= why <= 5 for _, why, _ in page.asleep):
        raise ValueError("a dropout says what cannot be")
    late = Late._make(
        (page.after, page.woken, page.slept, page.read, page.outside, page.pushed, page.waited, page.longer, None, 0.0,
         False, page.reader, None, page.meanwhile, None, page.clocks)
    )  # fmt: skip
    took = _took(page.took, of) if page.took is not None else None
    return Reasons(late, took, Met({(owner, why): looks for owner, why, looks in page.asleep}, page.could))


def _took(page: TookPage, of: Recording) -> Took:
    owner, *rest = values = msgspec.structs.astuple(page)[:5]
    if len({len(each) for each in values}) > 1 or list(owner) != sorted(set(owner)):
        raise ValueError("what took longer in a dropout does not fit together")
    _must_be_known(of, owner)
    now, then, met, asked = (np.array(each, np.float64) for each in rest)
    return Took(_times(owner), now, then, met, asked, page.blocks, page.by, page.pages, page.more, page.step)


def _times(of: Any) -> NDArray[np.int64]:
    return np.array(of, np.int64)


def _must_be_there(of: Recording, *places: list[int]) -> None:
    """ValueError if one of these is no thread of the recording, nor −1."""
    if any(not -1 <= each < len(of.threads) for these in places for each in these):
        raise ValueError("a dropout names a thread that is not there")


def _must_be_known(of: Recording, owners: Any) -> None:
    """ValueError if one of these owns no code of the recording."""
    if any(not WAITING <= each <= len(of.files) for each in owners):
        raise ValueError("a dropout names a plugin that is not there")
