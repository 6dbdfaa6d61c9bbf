"""How many more of these fit: copies of tracks, of a bus with its members, or of a plugin, tried one count by one."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

import msgspec

from ..cards.card import Cards
from ..session.chain_edits import find, holder
from ..session.computer import BUFFER_SIZES, Machine
from ..session.edits import MOST_STRIPS, Ids, checked, duplicate, with_strips
from ..session.session import Session
from .case import case
from .load_map import worst_load
from .prepared import Prepared, prepare

MOST = 256


class Fit(NamedTuple):
    """At a buffer size (samples) `more` copies stay under the limit and one more does not; `beyond` is None where
    more than were tried would fit. Loads are the worst of the piece, as fractions of the deadline: `now` without
    copies, `load` with `more` of them, `beyond` with one more."""

    buffer: int
    more: int
    now: float
    load: float
    beyond: float | None


Copies = Callable[[int], Session]


def of_strips(session: Session, ids: Sequence[str], members: bool = True) -> Copies:
    """Makes the session with so many more of some strips; a bus brings its members."""
    return lambda count: duplicate(session, ids, count, members) if count else session


def of_plugin(session: Session, use_id: str) -> Copies:
    """Makes the session with so many more of one plugin, each alone on a track beside the one that it sits on.

    Such a track plays what that one plays and feeds what it feeds.
    """
    strip, use = holder(session, use_id), find(session, use_id)
    instrument = use is strip.instrument

    def copies(count: int) -> Session:
        ids, made = Ids(session), []
        for number in range(count):
            own = msgspec.structs.replace(use, id=ids.fresh("plugin"), sidechain=None)
            made.append(
                msgspec.structs.replace(
                    strip, id=ids.fresh("track"), name=f"{use.label} {number + 1}", kind="track", sends=(),
                    instrument=own if instrument else None, inserts=() if instrument else (own,),
                    frozen_through=None, post_fader=0, armed=False,
                    output=strip.output if strip.kind != "main" else strip.id,
                )
            )  # fmt: skip
        at = session.strips.index(strip)
        return checked(with_strips(session, (*session.strips[:at], *made, *session.strips[at:]))) if made else session

    return copies


def how_many(
    session: Session, cards: Cards, machine: Machine, copies: Copies, limit: float,
    buffers: Iterable[int] = BUFFER_SIZES, most: int = MOST, cancelled: Callable[[], bool] = lambda: False,
) -> list[Fit]:  # fmt: skip
    """For each buffer size, how many more fit under a limit (a fraction of the deadline), by the load that is shown.

    `more` is such that so many fit and one more does not, by doubling and halving in; with anomalies of scheduling a
    larger number may fit again. None fit where the session is beyond the limit already: then `load` is what is now.
    What is cancelled ends with the sizes found so far. SessionError if the copies cannot be made.
    """
    prepared: dict[int, Prepared] = {}
    most = min(most, max(MOST_STRIPS - len(session.strips), 0))

    def load(count: int, buffer: int) -> float:
        if count not in prepared:
            prepared[count] = prepare(copies(count), cards)
        return worst_load(case(prepared[count], machine, buffer))

    found = []
    for buffer in buffers:
        if cancelled():
            break
        now = load(0, buffer)
        fits, reached = 0, {0: now}
        if now > limit:
            found.append(Fit(buffer, 0, now, now, load(1, buffer) if most else None))
            continue
        beyond = 1
        while beyond <= most:
            reached[beyond] = load(beyond, buffer)
            if reached[beyond] > limit:
                break
            fits, beyond = beyond, beyond * 2
        if beyond > most:
            beyond = most
            if fits < most:
                reached[most] = load(most, buffer)
            if reached[most] <= limit:
                found.append(Fit(buffer, most, now, reached[most], None))
                continue
        while beyond - fits > 1:
            middle = (fits + beyond) // 2
            reached[middle] = load(middle, buffer)
            if reached[middle] <= limit:
                fits = middle
            else:
                beyond = middle
        found.append(Fit(buffer, fits, now, reached[fits], reached[beyond]))
    return found


def unmeasured(session: Session, cards: Cards, copies: Copies) -> list[str]:
    """The names of copied plugins without a figure: with these, "so many fit" says nothing."""
    before = session.card_keys()
    found = []
    for key, uses in copies(1).card_keys().items():
        card = cards.get(key)
        if len(uses) > len(before.get(key, ())) and (card is None or not card.cells):
            found.append(uses[0].label)
    return sorted(set(found))
