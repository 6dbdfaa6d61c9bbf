"""Chains that a send leaves before their end, as several strips: what the send feeds need not wait for the rest."""

from __future__ import annotations

import msgspec

from .session import Session
from .strips import Strip


def split(session: Session) -> Session:
    """The session with such chains cut where sends leave; the very same one if there are none.

    The first part keeps the strip's place, id and source; the others are buses after all strips, each fed by the one
    before. The last one has the fader, the later sends and the output.
    """
    if not any(send.after is not None for strip in session.strips for send in strip.sends):
        return session
    kept: list[Strip] = []
    added: list[Strip] = []
    for strip in session.strips:
        first, *rest = parts_of(strip)
        kept.append(first)
        added.extend(rest)
    return msgspec.structs.replace(session, strips=(*kept, *added)) if added else session


def parts_of(strip: Strip) -> list[Strip]:
    """A strip cut after each insert that a send leaves, but for the last one."""
    last = len(strip.inserts) - 1
    places = sorted({min(max(send.after, -1), last) for send in strip.sends if send.after is not None and send.enabled})
    places = [place for place in places if place < last]
    if not places:
        return [strip]
    parts = []
    begins = 0
    for number, place in enumerate([*places, last]):
        is_first, is_last = number == 0, place == last
        frozen = strip.frozen_through
        if frozen is not None and not is_first:
            frozen = frozen - begins if frozen >= begins else None
        following = f"{strip.id}/after {place + 1}"
        part = msgspec.structs.replace(
            strip,
            id=strip.id if is_first else f"{strip.id}/after {begins}",
            name=strip.name if is_first else f"{strip.name}, from insert {begins + 1}",
            kind=strip.kind if is_first else "bus",
            instrument=strip.instrument if is_first else None,
            inserts=strip.inserts[begins : place + 1],
            sends=tuple(send for send in strip.sends if _leaves(send.after, last) == place),
            output=strip.output if is_last else following,
            parent=strip.parent if is_first else strip.id,
            volume=strip.volume if is_last else 1.0,
            mute=strip.mute and is_last,
            armed=strip.armed and is_first,
            clips=strip.clips if is_first else (),
            frozen_through=min(frozen, place - begins) if frozen is not None else None,
            post_fader=min(strip.post_fader, place + 1 - begins) if is_last else 0,
            part_of=None if is_first else strip.id,
        )
        parts.append(part)
        begins = place + 1
    return parts


def _leaves(after: int | None, last: int) -> int:
    """The insert after which a send leaves; the end of the chain if none is named."""
    return last if after is None else min(max(after, -1), last)
