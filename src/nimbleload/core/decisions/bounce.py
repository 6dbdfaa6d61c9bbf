"""Bounce: a track, a part of it, a stretch, or a bus with all that feeds it, printed to new audio for good."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import msgspec

from ..cards.card import Cards
from ..session.routing import edges, feeding
from ..session.session import Session
from ..session.strips import Strip
from ..units import clock
from .decision import Decision
from .kind import Asked, Kind, Option, Work, with_uses
from .price import GO_BACK, Price, Terms, total
from .rendering import (
    after_fader,
    end_of_piece,
    last_place,
    one_each,
    price_of,
    printed,
    source_obstacle,
    through_obstacle,
)


class Bounce(Kind):
    """A track, a part of it, a stretch, or a bus with all that feeds it becomes new audio, for good."""

    def obstacle(self, strip: Strip, decision: Decision, session: Session) -> str | None:
        if strip.kind in ("bus", "return"):
            inside, reason = group_of(session, strip.id)
            return reason if inside else "nothing feeds it, so there is nothing to print."
        if decision.use is not None:
            return "a bounce is for a track, not for one plugin alone."
        reason = source_obstacle(strip, session, "bounced", "bounce")
        start, end = decision.start, decision.end or 0.0
        if reason is None and start is not None and not any(c.start < end and c.end > start for c in strip.clips):
            return "it has no clips in this stretch, so there is nothing to print."
        return reason or through_obstacle(strip, decision)

    def carry_out(self, work: Work, decisions: Sequence[Decision]) -> None:
        # Buses first: what is cut out of a track that a bus was printed with is switched off as that track is.
        for decision in sorted(decisions, key=lambda each: work.changed[each.strip].kind == "track"):
            strip = work.changed[decision.strip]
            if strip.kind != "track":
                bounce_group(work.session, strip.id, work.changed)
            elif decision.stretch is not None:
                work.changed[strip.id], part = bounce_range(strip, *decision.stretch)
                work.added.append(part)
            else:
                work.changed[strip.id] = printed(strip, decision.through)
                if decision.muted:
                    work.added.append(muted_source(strip))

    def price(self, terms: Terms, decision: Decision) -> Price:
        strip = terms.session.strip(decision.strip)
        if strip.kind != "track":
            inside, _ = group_of(terms.session, strip.id)
            members = [terms.session.strip(each) for each in inside]
            each = [price_of(terms, s, len(s.inserts) - 1, GO_BACK) for s in members if s.kind == "track"]
            return total([*each, price_of(terms, strip, len(strip.inserts) - 1, GO_BACK)])
        if decision.stretch is not None:
            part = bounce_range(strip, *decision.stretch)[1]
            strip = msgspec.structs.replace(strip, clips=part.clips)
        return price_of(terms, strip, last_place(strip, decision), GO_BACK)

    def options(self, strip: Strip, asked: Asked) -> Iterator[Option]:
        whole = Decision("bounce", strip.id)
        title = "Bounce" if strip.kind == "track" else "Bounce all that feeds it"
        yield self._option(strip, whole, title, "for good; fader and sends stay live", asked)
        if strip.instrument is not None and strip.inserts:
            alone = Decision("bounce", strip.id, through=-1)
            yield self._option(strip, alone, "Bounce the instrument", "for good; all inserts stay live", asked)
        if strip.kind == "track" and asked.stretch is not None:
            part = Decision("bounce", strip.id, start=asked.stretch[0], end=asked.stretch[1])
            title = f"Bounce {clock(asked.stretch[0])} to {clock(asked.stretch[1])}"
            yield self._option(strip, part, title, "that part for good, on a track of its own", asked)

    def _option(self, strip: Strip, decision: Decision, title: str, given: str, asked: Asked) -> Option:
        return Option(decision, title, given, self.obstacle(strip, decision, asked.session))

    def traps(self, decision: Decision, strip: Strip, work: Work) -> Iterator[str]:
        who = after_fader(strip, decision.through)
        if who:
            unity = "Set the new track's to unity, without automation."
            yield f"{who}: the print holds the fader and its automation. {unity}"
        stays = "its source stays, muted, and costs as before" if decision.muted else "keep its source, switched off"
        yield f"a bounce cannot be undone; {stays}."
        if strip.volume not in (0.0, 1.0) and not strip.post_fader:
            level = 20 * math.log10(strip.volume)
            yield (
                f"its fader stands at {level:+.1f} dB. Print before the fader, or set the new track's to unity: "
                "else it counts twice."
            )
        known = {each.id: each for each in work.session.strips}
        heard = [known[send.target].name for send in strip.sends if send.enabled and send.target in known]
        if heard:
            yield (
                f"{', '.join(heard)} still hear{'s' if len(heard) == 1 else ''} it by its sends; "
                "print it without them, or they are heard twice."
            )

    def tail_traps(self, strip: Strip, session: Session, cards: Cards) -> Iterator[str]:
        yield from end_of_piece(strip, session, cards, "bounce")

    def words(self, session: Session, decision: Decision) -> str:
        strip = session.strip(decision.strip)
        more = ", source muted" if decision.muted else ""
        if decision.stretch is not None:
            start, end = map(clock, decision.stretch)
            return f"Bounce {start} to {end} of {strip.name}{more}"
        if decision.through == -1:
            return f"Bounce the instrument of {strip.name}{more}"
        return f"Bounce {strip.name}{'' if strip.kind == 'track' else ' with all that feeds it'}{more}"

    def way_back(self, strip: Strip, decision: Decision) -> str | None:
        return f"Use the kept source of {strip.name} if its sound must change; else the bounce is final."


def group_of(session: Session, bus_id: str) -> tuple[list[str], str | None]:
    """The ids of all strips that feed a bus, near or far; and why they cannot be printed with it, if they feed more."""
    fed = feeding(session)
    ids = [strip.id for strip in session.strips]
    bus = ids.index(bus_id)
    found = {bus}
    while more := {source for source, target in fed if target in found} - found:
        found |= more
    # Who listens to one of them by a side-chain would lose it as well.
    for source, target in sorted(edges(session)):
        if source in found and source != bus and target not in found:
            name, other = session.strips[source].name, session.strips[target].name
            listens = (source, target) not in fed
            reason = f"{other} listens to {name} and would lose it." if listens else (
                f"{name} also feeds {other}, which would lose it."
            )  # fmt: skip
            return [ids[k] for k in sorted(found - {bus})], reason
    return [ids[k] for k in sorted(found - {bus})], None


def bounce_group(session: Session, bus_id: str, changed: dict[str, Strip]) -> None:
    """A bus is printed with all that feeds it: those are switched off, and one clip for each stretch is left."""
    inside, _ = group_of(session, bus_id)
    clips = [(clip.start, clip.end) for strip_id in inside for clip in session.strip(strip_id).clips]
    for strip_id in inside:
        changed[strip_id] = msgspec.structs.replace(changed[strip_id], enabled=False)
    changed[bus_id] = printed(msgspec.structs.replace(changed[bus_id], clips=one_each(clips)))


def bounce_range(strip: Strip, start: float, end: float) -> tuple[Strip, Strip]:
    """A track without what it plays from one second to another, and a new track that plays just that, printed."""
    inside = [(max(clip.start, start), min(clip.end, end)) for clip in strip.clips]
    name = f"{strip.name} (bounced {clock(start)})"
    clips = one_each((span for span in inside if span[1] > span[0]), name)
    rest = tuple(
        msgspec.structs.replace(clip, start=a, end=b)
        for clip in strip.clips
        for a, b in ((clip.start, min(clip.end, start)), (max(clip.start, end), clip.end))
        if b > a
    )
    new = msgspec.structs.replace(
        printed(strip), id=f"{strip.id}/bounced", name=name, clips=clips, armed=False, suspended=False
    )
    return msgspec.structs.replace(strip, clips=rest), new


def muted_source(strip: Strip) -> Strip:
    """What a track was before it was printed, kept beside the print: muted, and without sends."""
    copies = {use.id: msgspec.structs.replace(use, id=f"{use.id}/source") for use in strip.uses()}
    kept = with_uses(strip, copies)
    return msgspec.structs.replace(kept, id=f"{strip.id}/source", name=f"{strip.name} (source)", sends=(), mute=True)
