"""A pared-down copy of a session: some tracks with all that they lead to, and of the piece only a stretch."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from .edits import checked, members_of, there, with_strips
from .session import Session, SessionError
from .strips import Clip, Strip

Stretch = tuple[float, float]


def kept_with(session: Session, ids: Iterable[str]) -> set[str]:
    """The ids of some strips, of the members of those that are buses, and of all that they need: what they feed, the
    buses they lie under, and what their plugins listen to. SessionError names one that there is not."""
    by_id = {strip.id: strip for strip in session.strips}
    found: set[str] = set()
    chosen = there(session, ids)
    todo = [*chosen, *members_of(session, {each for each in chosen if by_id[each].kind == "bus"})]
    while todo:
        each = todo.pop()
        if each in found or each not in by_id:
            continue
        found.add(each)
        strip = by_id[each]
        todo += [send.target for send in strip.sends if send.enabled]
        todo += [use.sidechain for use in strip.uses() if use.sidechain is not None]
        todo += [other for other in (strip.output, strip.parent) if other is not None]
    return found | {strip.id for strip in session.strips if strip.kind == "main"}


def is_in(clip: Clip, stretch: Stretch | None) -> bool:
    """Whether any of a clip lies in a stretch of the piece (seconds); in None all of them do."""
    return stretch is None or (clip.start < stretch[1] and clip.end > stretch[0])


def pared(session: Session, ids: Iterable[str], stretch: Stretch | None = None, without_off: bool = False) -> Session:
    """The session with these strips and what they need alone. Clips outside the `stretch` (seconds) go; nothing is
    moved. With `without_off` plugins that are switched off go, too. SessionError if nothing would be left."""
    kept = kept_with(session, ids)
    if stretch is not None and not stretch[1] > stretch[0]:
        raise SessionError(f"a stretch from {stretch[0]:g} to {stretch[1]:g} seconds has no length")

    def left(strip: Strip) -> Strip:
        stays = [use.enabled or not without_off for use in strip.inserts]

        def place(of: int | None) -> int | None:
            """The same place in the chain that is left (-1: its source)."""
            return of if of is None or of < 0 else sum(stays[: of + 1]) - 1

        instrument = strip.instrument
        if instrument is not None and without_off and not instrument.enabled:
            instrument = None
        sends = (send for send in strip.sends if send.target in kept)
        return msgspec.structs.replace(
            strip, instrument=instrument,
            inserts=tuple(use for use, there in zip(strip.inserts, stays, strict=True) if there),
            frozen_through=place(strip.frozen_through),
            post_fader=sum(stays[max(len(stays) - strip.post_fader, 0) :]),
            sends=tuple(msgspec.structs.replace(send, after=place(send.after)) for send in sends),
            clips=tuple(clip for clip in strip.clips if is_in(clip, stretch)),
        )  # fmt: skip

    strips = [left(strip) for strip in session.strips if strip.id in kept]
    if all(strip.kind == "main" for strip in strips):
        raise SessionError("no track is chosen: there would be nothing left but the main output")
    return checked(with_strips(session, strips))
