"""What a stretch takes out of the clips of an exchange file, and what has to be laid again beside it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from ..core.piece.moments import union
from ..core.session.controllers import Controller, between
from ..core.session.session import Session
from ..core.session.tempo import TempoMap
from ..store.archive import Archive
from ..store.dawproject import sounding_of
from ..store.sounding import NotePart, Part
from ..store.splice import Element, Text
from . import stretch


class Crossing(NamedTuple):
    """What a stretch does to the clips of a track: those that are `gone`, and of those that lay over its edges what is
    left: `parts` of audio, and `notes`, each with the stretch (seconds) in which they lie and how controllers go there.
    """

    gone: list[Element]
    parts: tuple[Part, ...]
    notes: list[tuple[float, float, list[NotePart], tuple[Controller, ...]]]


class Cutting(NamedTuple):
    """Cuts clips of an exchange file. Only those over an edge are written anew, as plain clips in seconds."""

    archive: Archive
    source: Path

    def crossing(
        self, text: Text, clips: Sequence[Element], strip_id: str, session: Session, span: tuple[float, float]
    ) -> Crossing:
        """What a stretch (seconds) does to these clips, the only ones of a strip that lie in no other clip."""
        tempo = TempoMap(session.tempo)
        gone, over = [], {}
        for clip in clips:
            begun, ended = placed(clip, tempo)
            if ended <= span[0] or begun >= span[1] or clip.attributes.get("enable") == "false":
                continue
            gone.append(clip)
            if begun < span[0] or ended > span[1]:
                over[clip.begin] = begun, ended
        if not over:
            return Crossing(gone, (), [])
        # Read as if only those over an edge were there: what they play, whatever they are made of.
        only = text.copy()
        others = {clip.begin for clip in clips} - set(over)
        for clip in only.root.iter("Clip"):
            if clip.begin in others:
                only.set(clip, "enable", "false")
        # Lanes keep their curves, and go on with them beside the clips that are written anew.
        for points in only.root.iter("Points"):
            target = points.find("Target")
            if target is not None and target.attributes.get("expression") and not _in_a_clip(points):
                only.set(target, "expression", "")
        sounding = sounding_of(self.archive, only.changed(), self.source, strip_id)
        left = stretch.outside(sounding, *span, session.rate)
        told = [point.second for each in left.controllers for point in each.curve.points]
        last = max([note.end for note in left.notes] + told, default=0.0)
        # Clips that lie over each other become one; else the notes of both would be in either.
        sides = [((max(a, 0.0), min(b, last, span[0])), (max(a, span[1]), min(b, last))) for a, b in over.values()]
        notes = []
        for a, b in (each for side in zip(*sides, strict=True) for each in union(side)):
            inside = [note for note in left.notes if a <= note.start < b]
            controllers = between(left.controllers, a, b)
            if inside or controllers:
                notes.append((a, b, inside, controllers))
        return Crossing(gone, left.parts, notes)


def _in_a_clip(element: Element) -> bool:
    above = element.parent
    while above is not None and above.tag != "Clip":
        above = above.parent
    return above is not None


def placed(clip: Element, tempo: TempoMap) -> tuple[float, float]:
    """From when to when a clip, or content without one, lies in the piece (seconds); without end if it does not say."""
    unit, above = "", clip.parent
    while above is not None and not unit:
        unit, above = above.attributes.get("timeUnit", ""), above.parent
    start = float(clip.attributes.get("time", 0))
    length = float(clip.attributes.get("duration", "inf")) if clip.tag == "Clip" else float("inf")
    if unit == "seconds":
        return start, start + length
    return tempo.seconds(start), tempo.seconds(start + length) if length < float("inf") else length
