"""Edits along the time: clips, sections, tempo, rate and length. Times in seconds from the start of the piece."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable

import msgspec

from .edits import changed
from .meter import BarMap
from .session import Meter, Section, Session, SessionError, TempoPoint
from .strips import Clip, Strip, within
from .tempo import TempoMap

LONGEST = 1e6
# What is shorter than this (seconds; less than a sample) has no length: later in the piece its end would be its start.
SHORTEST = 1e-6
RATES = (8000, 768_000)
TEMPI = (1.0, 10_000.0)


def set_rate(session: Session, rate: int) -> Session:
    """The session at another sample rate (hertz)."""
    if not RATES[0] <= rate <= RATES[1]:
        raise SessionError(f"a sample rate of {rate} Hz is not possible: from {RATES[0]} to {RATES[1]}")
    return msgspec.structs.replace(session, rate=rate)


def set_length(session: Session, length: float) -> Session:
    """The session with another end; clips that reach beyond it keep it longer."""
    _time(length, "length")
    ends = [clip.end for strip in session.strips for clip in strip.clips]
    return msgspec.structs.replace(session, length=max([length, *ends]))


def set_tempo(session: Session, points: Iterable[TempoPoint]) -> Session:
    """The session with another tempo map. SessionError on a tempo that is not possible."""
    made = tuple(points)
    for point in made:
        if not TEMPI[0] <= point.bpm <= TEMPI[1]:
            raise SessionError(f"a tempo of {point.bpm:g} beats a minute is not possible")
    TempoMap(made)
    return msgspec.structs.replace(session, tempo=made or (TempoPoint(0.0, 120.0),))


def set_meters(session: Session, meters: Iterable[Meter]) -> Session:
    """The session with other time signatures. SessionError on one that is not possible."""
    made = tuple(meters) or (Meter(),)
    BarMap(made)
    return msgspec.structs.replace(session, meters=made)


def _time(second: float, what: str) -> float:
    if not (math.isfinite(second) and 0 <= second <= LONGEST):
        raise SessionError(f"a {what} of {second:g} seconds is not possible")
    return second


def add_clip(session: Session, strip_id: str, start: float, end: float, voices: int = 0) -> Session:
    """The session with one more clip on a track: audio, or notes if it has an instrument.

    `voices` is how many notes sound together in it (0: not known, counts as all the instrument has). The piece gets
    longer if the clip reaches beyond its end.
    """
    _time(start, "start")
    if not _time(end, "end") - start >= SHORTEST:
        raise SessionError(f"a clip from {start:g} to {end:g} seconds has no length")
    if not 0 <= voices <= 4096:
        raise SessionError(f"{voices} notes at once are not possible")

    def with_clip(strip: Strip) -> Strip:
        if strip.kind != "track":
            raise SessionError(f"{strip.name} is no track: clips lie on tracks")
        notes = strip.instrument is not None
        clip = Clip(start, end, "notes" if notes else "audio", voices=((start, voices),) if notes and voices else ())
        return msgspec.structs.replace(strip, clips=tuple(sorted((*strip.clips, clip), key=lambda c: (c.start, c.end))))

    made = changed(session, [strip_id], with_clip)
    return msgspec.structs.replace(made, length=max(made.length, end))


def clear(session: Session, ids: Iterable[str], start: float = 0.0, end: float = LONGEST) -> Session:
    """The session with nothing on some tracks between two seconds: clips are cut there, or gone."""
    if not end > start:
        raise SessionError(f"a stretch from {start:g} to {end:g} seconds has no length")

    def cleared(strip: Strip) -> Strip:
        kept: list[Clip] = []
        for clip in strip.clips:
            kept += [part for part in (_part(clip, clip.start, min(clip.end, start)),
                                       _part(clip, max(clip.start, end), clip.end)) if part is not None]  # fmt: skip
        return msgspec.structs.replace(strip, clips=tuple(kept))

    return changed(session, ids, cleared)


def _part(clip: Clip, start: float, end: float) -> Clip | None:
    """A clip's part between two seconds; None if there is none."""
    if end - start < SHORTEST:
        return None
    clip = msgspec.structs.replace(clip, offset=clip.offset + start - clip.start, start=start, end=end)
    return msgspec.structs.replace(clip, voices=within(clip.voices, start, end)) if clip.voices else clip


def shift(session: Session, ids: Iterable[str], by: float) -> Session:
    """The session with all clips of some tracks so much later (earlier if negative); none begins before 0."""
    wanted = set(ids)
    return move_clips(session, [(s.id, clip) for s in session.strips if s.id in wanted for clip in s.clips], by)


# A clip, and the track (its id) on which it lies.
Placed = tuple[str, Clip]


def moved(chosen: Collection[Placed], by: float) -> list[Placed]:
    """Clips so much later (seconds; earlier if negative) but none before 0: all of them keep their distances."""
    by = max(by, -min((clip.start for _, clip in chosen), default=0.0))
    return [(strip_id, _later(clip, by)) for strip_id, clip in chosen]


def _later(clip: Clip, by: float) -> Clip:
    voices = tuple((second + by, count) for second, count in clip.voices)
    return msgspec.structs.replace(clip, start=clip.start + by, end=_time(clip.end + by, "end"), voices=voices)


def move_clips(session: Session, chosen: Collection[Placed], by: float, copies: bool = False) -> Session:
    """The session with some clips so much later, as `moved` has it, or with copies of them there. What a track has no
    more is left out."""
    after = dict(zip(chosen, moved(chosen, by), strict=True))

    def with_moved(strip: Strip) -> Strip:
        found = [(clip, after.get((strip.id, clip))) for clip in strip.clips]
        kept = [clip for clip, later in found if later is None or copies]
        new = [later[1] for _, later in found if later is not None]
        return msgspec.structs.replace(strip, clips=tuple(sorted((*kept, *new), key=lambda c: (c.start, c.end))))

    made = changed(session, {strip_id for strip_id, _ in chosen}, with_moved)
    ends = [clip.end for strip in made.strips for clip in strip.clips]
    return msgspec.structs.replace(made, length=max([made.length, *ends]))


def take_out_clips(session: Session, chosen: Collection[Placed]) -> Session:
    """The session without some clips."""

    def without(strip: Strip) -> Strip:
        return msgspec.structs.replace(strip, clips=tuple(c for c in strip.clips if (strip.id, c) not in chosen))

    return changed(session, {strip_id for strip_id, _ in chosen}, without)


def add_section(session: Session, name: str, start: float) -> Session:
    """The session with a section that begins at a second; one that begins there already is renamed."""
    _time(start, "start")
    if not name.strip():
        raise SessionError("a section needs a name")
    others = [section for section in session.sections if section.start != start]
    made = sorted((*others, Section(name.strip(), start)), key=lambda section: section.start)
    return msgspec.structs.replace(session, sections=tuple(made), length=max(session.length, start))


def move_section(session: Session, start: float, to: float) -> Session:
    """The session with the section that begins at a second beginning at another. SessionError if none does, or another
    section begins there."""
    section = next((each for each in session.sections if each.start == start), None)
    if section is None:
        raise SessionError(f"no section begins at {start:g} seconds")
    if to != start and any(each.start == to for each in session.sections):
        raise SessionError(f"another section begins at {to:g} seconds")
    return add_section(remove_section(session, start), section.name, to)


def remove_section(session: Session, start: float) -> Session:
    """The session without the section that begins at a second. SessionError if none does."""
    kept = tuple(section for section in session.sections if section.start != start)
    if len(kept) == len(session.sections):
        raise SessionError(f"no section begins at {start:g} seconds")
    return msgspec.structs.replace(session, sections=kept)
