"""The arrangement of an exchange file: when each track has clips, how many notes sound when, where the markers are.

Lanes nest, clips nest, loop and refer to others; times are beats under a tempo map, or seconds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import pairwise
from typing import Literal

from lxml import etree
from msgspec.structs import replace

from ..core.piece.notes import bars, counted, within
from ..core.session.strips import Clip
from ..core.session.tempo import TempoMap
from .archive import ImportRefusedError
from .xml_values import flag, number, place

WHERE = "project.xml"
MOST_PIECES = 200_000
MOST_NOTES = 2_000_000
DEEPEST = 32
ContentKind = Literal["audio", "notes"]
Piece = tuple[float, float, ContentKind]
Stretch = tuple[float, float]
NOTHING = Clip(0.0, 0.0)
# So much another speed is a stretch; less may be rounding in the file (fraction).
STRETCHED = 0.01


class Timeline:
    """Clips, voices and markers of one project. `tracks` are the ids that lanes may name."""

    def __init__(
        self,
        root: etree._Element,
        tempo: TempoMap,
        tracks: set[str],
        left_out: list[str],
        head: Callable[[str], bytes] = lambda path: b"",
    ) -> None:
        """`head` gives the first bytes of an audio file that the project holds, empty if it does not."""
        self._tempo, self._head = tempo, head
        self._left_out = left_out
        self._by_id: dict[str, etree._Element] = {}
        for element in root.iter("Clip", "Clips", "Notes", "Audio", "Lanes"):
            given = element.get("id")
            if given is not None:
                self._by_id[given] = element
        self._clips: dict[str, list[Clip]] = {}
        self._notes: dict[str, list[Stretch]] = {}
        self._uncounted: set[str] = set()
        self._heard = 0
        self._bits: dict[str, int] = {}
        self._markers: list[tuple[str, float]] = []
        self._pieces = 0
        arrangement = root.find("Arrangement")
        if arrangement is not None:
            self._walk(arrangement, None, "beats", tracks, 0)
        scenes = root.findall("Scenes/Scene")
        if scenes:
            left_out.append(f"{len(scenes)} scenes: only the arrangement is computed.")

    def clips(self, track: str) -> tuple[Clip, ...]:
        """The clips of a track in order; those of notes say how many sound, bar by bar, where that can be told."""
        clips = sorted(self._clips.get(track, ()), key=lambda c: (c.start, c.end))
        if track in self._uncounted or not any(clip.kind == "notes" for clip in clips):
            return tuple(clips)
        profile = self._profile(track)
        return tuple(
            clip if clip.kind == "audio" else replace(clip, voices=within(profile, clip.start, clip.end))
            for clip in clips
        )

    def voices(self, track: str) -> int:
        """The most notes of a track that sound together."""
        return max((count for _, count in self._profile(track)), default=0)

    def _profile(self, track: str) -> tuple[tuple[float, int], ...]:
        notes = self._notes.get(track, [])
        return counted(notes, bars(tuple(self._tempo.points), max((end for _, end in notes), default=0.0)))

    def markers(self) -> list[tuple[str, float]]:
        return sorted(self._markers, key=lambda m: m[1])

    def _walk(self, element: etree._Element, track: str | None, unit: str, tracks: set[str], depth: int) -> None:
        if depth > DEEPEST:
            raise ImportRefusedError(f"{place(element, WHERE)}: lanes nest deeper than {DEEPEST} levels.")
        unit = element.get("timeUnit", unit)
        track = element.get("track", track)
        if track is not None and track not in tracks and element.get("track") is not None:
            self._left_out.append(f"{place(element, WHERE)}: it belongs to a track that carries no sound: {track!r}.")
        for child in element:
            if child.tag in ("Lanes", "Clips"):
                self._walk(child, track, unit, tracks, depth + 1)
            elif child.tag == "Clip" and track is not None:
                self._add_clip(child, track, unit)
            elif child.tag == "Marker":
                at = self._seconds(number(child, "time", 0, WHERE, 0), unit)
                self._markers.append((child.get("name") or "Marker", at))
            elif child.tag == "Markers":
                self._walk(child, None, unit, tracks, depth + 1)

    def _seconds(self, at: float, unit: str) -> float:
        return at if unit == "seconds" else self._tempo.seconds(at)

    def _add_clip(self, clip: etree._Element, track: str, unit: str) -> None:
        if not flag(clip, "enable", True):
            return
        audio = self._audio(clip, unit)
        for start, end, kind in self._sounding(clip, unit, 0):
            first, last = self._seconds(max(start, 0.0), unit), self._seconds(max(end, 0.0), unit)
            if last > first:
                plain = replace(audio or NOTHING, start=first, end=last, kind=kind, name=clip.get("name") or "")
                self._clips.setdefault(track, []).append(plain)
        notes = self._played(clip, unit, 0)
        if notes is None:
            self._uncounted.add(track)
            notes = self._unlooped(clip)
        seconds = [(self._seconds(max(start, 0.0), unit), self._seconds(max(end, 0.0), unit)) for start, end in notes]
        self._notes.setdefault(track, []).extend(seconds)

    def _audio(self, clip: etree._Element, unit: str) -> Clip | None:
        """What is known of the audio file that a clip plays, as a clip without place; None if it plays none."""
        content = self._content(clip)
        audio = None
        if content is not None:
            audio = content if content.tag == "Audio" else next(content.iter("Audio"), None)
        if audio is None or content is None:
            return None
        file = audio.find("File")
        path = file.get("path") if file is not None and file.get("external") != "true" else None
        stretched = any(self._is_stretched(clip, warps, unit) for warps in content.iter("Warps"))
        rate = number(audio, "sampleRate", 0, WHERE, 0, 1_000_000)
        if path is not None and path not in self._bits:
            self._bits[path] = wave_bits(self._head(path))
        return replace(NOTHING, file=path, rate=round(rate), bits=self._bits.get(path or "", 0), stretched=stretched)

    def _is_stretched(self, clip: etree._Element, warps: etree._Element, unit: str) -> bool:
        """Whether audio is played at another speed between any two of its warp points, by more than a hundredth."""
        inside = warps.get("timeUnit", clip.get("contentTimeUnit", unit))
        start = number(clip, "time", 0, WHERE, -1e9) if inside == unit else 0.0
        points = sorted(
            (self._seconds(max(start, 0.0) + number(w, "time", 0, WHERE), inside), number(w, "contentTime", 0, WHERE))
            for w in warps.findall("Warp")
        )
        if warps.get("contentTimeUnit", "seconds") != "seconds":
            return False
        spans = ((b[0] - a[0], b[1] - a[1]) for a, b in pairwise(points))
        return any(abs(played - recorded) > STRETCHED * max(played, 1e-6) for played, recorded in spans)

    def _sounding(self, clip: etree._Element, unit: str, depth: int) -> Iterator[Piece]:
        """The stretches in which a clip has content, in the time unit of what holds it."""
        if depth > DEEPEST:
            raise ImportRefusedError(f"{place(clip, WHERE)}: clips nest or refer to each other without end.")
        start = number(clip, "time", 0, WHERE, -1e9)
        content = self._content(clip)
        length = number(clip, "duration", -1, WHERE)
        if length < 0:
            length = self._content_length(content, unit, start)
        has_notes = content is not None and next(content.iter("Notes"), None) is not None
        kind: ContentKind = "notes" if has_notes else "audio"
        inner = [c for c in content if c.tag == "Clip"] if content is not None and content.tag == "Clips" else []
        same_unit = clip.get("contentTimeUnit", unit) == unit
        if not inner or not same_unit:
            yield self._counted((start, start + length, kind), clip)
            return
        pieces = [p for c in inner if flag(c, "enable", True) for p in self._sounding(c, unit, depth + 1)]
        for begun, first, last in _passes(clip, start, length):
            for inner_start, inner_end, inner_kind in pieces:
                s, e = max(inner_start, first), min(inner_end, last)
                if e > s:
                    yield self._counted((begun + s - first, begun + e - first, inner_kind), clip)

    def _counted(self, piece: Piece, clip: etree._Element) -> Piece:
        self._pieces += 1
        if self._pieces > MOST_PIECES:
            raise ImportRefusedError(f"{place(clip, WHERE)}: over {MOST_PIECES} stretches of sound; loops run wild.")
        return piece

    def _content(self, clip: etree._Element) -> etree._Element | None:
        """What a clip holds, or what it refers to. ImportRefusedError if that does not exist."""
        reference = clip.get("reference")
        if reference is not None:
            if reference not in self._by_id:
                raise ImportRefusedError(f"{place(clip, WHERE)}: it refers to what does not exist: {reference!r}.")
            return self._by_id[reference]
        return next((c for c in clip if c.tag in ("Notes", "Audio", "Clips", "Warps", "Lanes")), None)

    def _content_length(self, content: etree._Element | None, unit: str, start: float) -> float:
        """How long content without a stated duration lasts, in the unit of the clip that holds it."""
        if content is None:
            return 0.0
        audio = content if content.tag == "Audio" else next(content.iter("Audio"), None)
        if audio is not None:
            seconds = number(audio, "duration", 0, WHERE, 0)
            if unit == "seconds":
                return seconds
            return _beats_for(self._tempo, start, seconds)
        ends = [number(n, "time", 0, WHERE) + number(n, "duration", 0, WHERE, 0) for n in content.iter("Note")]
        return max(ends, default=0.0)

    def _played(self, clip: etree._Element, unit: str, depth: int) -> list[Stretch] | None:
        """The notes of a clip as they sound, through its loops, in the time unit of what holds it.

        None if its content counts time in another unit, under which a tempo may change on the way.
        """
        content = self._content(clip)
        if content is None or next(content.iter("Note", "Clip"), None) is None:
            return []
        if clip.get("contentTimeUnit", content.get("timeUnit", unit)) != unit or depth > DEEPEST:
            return None
        if content.tag == "Clips":
            notes: list[Stretch] = []
            for inner in (c for c in content if c.tag == "Clip" and flag(c, "enable", True)):
                found = self._played(inner, unit, depth + 1)
                if found is None:
                    return None
                notes.extend(found)
        else:
            notes = [_note(note) for note in content.iter("Note")]
        start, length = number(clip, "time", 0, WHERE, -1e9), number(clip, "duration", -1, WHERE)
        if length < 0:
            length = self._content_length(content, unit, start)
        heard = []
        for begun, first, last in _passes(clip, start, length):
            heard += [(begun + s - first, begun + min(e, last) - first) for s, e in notes if first <= s < last]
            if self._heard + len(heard) > MOST_NOTES:
                raise ImportRefusedError(f"{place(clip, WHERE)}: over {MOST_NOTES} notes; loops run wild.")
        self._heard += len(heard)
        return heard

    def _unlooped(self, clip: etree._Element) -> list[Stretch]:
        """The notes of a clip where they would sound without loops: enough to know how many it plays at most."""
        content = self._content(clip)
        offset = number(clip, "time", 0, WHERE, -1e9)
        notes = [_note(note) for note in content.iter("Note")] if content is not None else []
        return [(offset + start, offset + end) for start, end in notes]


def wave_bits(head: bytes) -> int:
    """The bits of a sample in a WAVE file, from its first bytes; 0 if these do not say."""
    if head[:4] not in (b"RIFF", b"RF64") or head[8:12] != b"WAVE":
        return 0
    at = 12
    while at + 24 <= len(head):
        name, length = head[at : at + 4], int.from_bytes(head[at + 4 : at + 8], "little")
        if name == b"fmt ":
            return int.from_bytes(head[at + 22 : at + 24], "little")
        at += 8 + length + length % 2
    return 0


def _note(note: etree._Element) -> Stretch:
    start = number(note, "time", 0, WHERE)
    return start, start + number(note, "duration", 0, WHERE, 0)


def _passes(clip: etree._Element, start: float, length: float) -> Iterator[tuple[float, float, float]]:
    """The passes through a clip's content: (where it begins outside, first and last content time heard)."""
    play = number(clip, "playStart", 0, WHERE)
    loop_start, loop_end = number(clip, "loopStart", 0, WHERE), number(clip, "loopEnd", -1, WHERE)
    end = start + length
    if loop_end - loop_start < 1e-6:
        yield start, play, play + length
        return
    at, first = start, play
    for _ in range(MOST_PIECES):
        last = min(loop_end, first + end - at) if first < loop_end else first + end - at
        yield at, first, last
        at += last - first
        first = loop_start
        if at >= end - 1e-9:
            return


def _beats_for(tempo: TempoMap, start: float, seconds: float) -> float:
    """How many beats from beat `start` on last so many seconds (bisection: tempo is positive, so time only grows)."""
    target = tempo.seconds(start) + seconds
    low, high = start, start + 1.0
    while tempo.seconds(high) < target:
        high = start + 2 * (high - start)
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if tempo.seconds(middle) < target else (low, middle)
    return high - start
