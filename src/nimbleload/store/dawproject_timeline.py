"""The arrangement of an exchange file: when each track has clips, how many notes sound when, where the markers are.

Lanes nest, clips nest, loop and refer to others; times are beats under a tempo map, or seconds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import pairwise
from typing import NamedTuple

from lxml import etree
from msgspec.structs import replace

from ..core.piece.notes import bars, counted
from ..core.session.controllers import Controller, cut, held
from ..core.session.curves import Curve
from ..core.session.expressions import Expression
from ..core.session.session import Timing
from ..core.session.strips import Clip, within
from ..core.session.tempo import TempoMap
from ..core.units import count
from .archive import WHERE, ImportRefusedError
from .dawproject_controllers import Pass, channel_of, expression, followed, of_track
from .dawproject_curves import GAINS, MOST_POINTS, real_points
from .dawproject_expressions import Pressing, is_of_key, of_key, of_note, pressed
from .dawproject_heard import LEAST, UNWRAPPED, Heard, Placed, Stretch
from .sounding import NotePart
from .xml_values import flag, number, place

MOST_PIECES = 200_000
MOST_NOTES = 2_000_000
DEEPEST = 32
# What a clip can hold, or refer to.
CONTENT = ("Notes", "Audio", "Video", "Clips", "Warps", "Lanes", "Points")
# A loop shorter than this is none (in the unit at hand).
SHORTEST_LOOP = 1e-6
NOTHING = Clip(0.0, 0.0)
# So much another speed is a stretch; less may be rounding in the file (fraction).
STRETCHED = 0.01
# Audio whose warp points shift by less than this (seconds) plays as it was recorded.
UNSTRETCHED = 1e-4


class Grid(NamedTuple):
    """Time inside a timeline: its `unit`, and where its zero lies in the piece, in seconds and in beats."""

    unit: str
    second: float = 0.0
    beat: float = 0.0


class Timeline:
    """Clips, voices and markers of one project. `tracks` are the ids that lanes may name."""

    def __init__(
        self,
        root: etree._Element,
        timing: Timing,
        tracks: set[str],
        left_out: list[str],
        head: Callable[[str], bytes] = lambda path: b"",
    ) -> None:
        """`head` gives the first bytes of an audio file that the project holds, empty if it does not."""
        self._timing, self._tempo, self._head = timing, TempoMap(timing.tempo), head
        self._left_out = left_out
        self._by_id: dict[str, etree._Element] = {}
        for element in root.iter("Clip", *CONTENT):
            given = element.get("id")
            if given is not None:
                self._by_id.setdefault(given, element)
        self._clips: dict[str, list[Clip]] = {}
        self._counted_notes = self._visits = 0
        self._bits: dict[str, int] = {}
        self._placed: dict[str, list[Placed]] = {}
        self._played: dict[str, list[NotePart]] = {}
        self._passes: dict[str, list[Pass]] = {}
        self._keys: dict[str, list[Pressing | None]] = {}
        self._controllers: dict[str, tuple[Controller, ...]] = {}
        self._markers: list[tuple[str, float]] = []
        self._missing: set[str] = set()
        # The tracks with curves of clips that cannot be followed.
        self.curved: set[str] = set()
        self._points = 0
        arrangement = root.find("Arrangement")
        if arrangement is not None:
            self._walk(arrangement, None, "beats", tracks, 0)
        for track, passes in self._passes.items():
            controllers = of_track(passes, {note.channel for note in self._played.get(track, ())})
            if controllers is None:
                self.curved.add(track)
            self._controllers[track] = controllers or ()
        for track, keys in self._keys.items():
            self._press(track, keys)
        scenes = root.findall("Scenes/Scene")
        if scenes:
            left_out.append(f"{count(len(scenes), 'scene')}: only the arrangement is computed.")

    def clips(self, track: str) -> tuple[Clip, ...]:
        """The clips of a track in order; those of notes say how many sound, bar by bar, where that can be told."""
        clips = sorted(self._clips.get(track, ()), key=lambda c: (c.start, c.end))
        if not any(clip.kind == "notes" for clip in clips):
            return tuple(clips)
        profile = self._profile(track)
        return tuple(
            clip if clip.kind == "audio" else replace(clip, voices=within(profile, clip.start, clip.end))
            for clip in clips
        )

    def placed(self, track: str) -> list[Placed]:
        """The audio that a track plays, in order."""
        return sorted(self._placed.get(track, ()), key=lambda each: (each.start, each.end))

    def played(self, track: str) -> list[NotePart]:
        """The notes that a track plays, in order."""
        lasting = (note for note in self._played.get(track, ()) if note.end > note.start)
        return sorted(lasting, key=lambda each: (each.start, each.end, each.key))

    def controllers(self, track: str) -> tuple[Controller, ...]:
        """How the controllers of a track go, where that can be followed."""
        return self._controllers.get(track, ())

    def voices(self, track: str) -> int:
        """The most notes of a track that sound together."""
        return max((count for _, count in self._profile(track)), default=0)

    def _profile(self, track: str) -> tuple[tuple[float, int], ...]:
        played = [(note.start, note.end, note.key, note.channel) for note in self._played.get(track, ())]
        last = max([end for _, end, *_ in played] + [clip.end for clip in self._clips.get(track, ())], default=0.0)
        notes = held(played, self.controllers(track), last)
        return counted(notes, bars(self._timing, max((end for _, end in notes), default=0.0)))

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
                self._add(track, self._of_clip(child, Grid(unit), depth), self._audio(child, unit), child.get("name"))
            elif child.tag in UNWRAPPED and track is not None:
                # Content that lies in a lane without a clip around it sounds from the start.
                grid = self._inside(Grid(unit), 0.0, child.get("timeUnit", unit))
                heard = self._of_content(child, grid, None, depth)
                self._add(track, heard, self._audio_of(child, child, unit), child.get("name"))
            elif child.tag == "Points" and track is not None and is_of_key(child):
                pressing = self._of_key(child, Grid(child.get("timeUnit", unit)))
                self._keys.setdefault(track, []).append(pressing)
            elif child.tag == "Points" and track is not None and expression(child) is not None:
                self._add(track, self._of_content(child, Grid(child.get("timeUnit", unit)), None, depth), None, None)
            elif child.tag == "Marker":
                at = self._at(Grid(unit), number(child, "time", 0, WHERE, 0))
                self._markers.append((child.get("name") or "Marker", at))
            elif child.tag == "Markers":
                self._walk(child, None, unit, tracks, depth + 1)

    def _press(self, track: str, keys: list[Pressing | None]) -> None:
        """Presses the notes of a track as curves in its lanes tell, beside what its clips do."""
        self._played[track], told = _pressed(self._played.get(track, []), keys)
        if not told:
            self.curved.add(track)

    def _add(self, track: str, heard: Heard, audio: Clip | None, name: str | None) -> None:
        """Takes in what a clip sounds like; what would lie before the start of the piece is cut off."""
        for start, end, kind in dict.fromkeys(heard.pieces):
            first, last = max(start, 0.0), max(end, 0.0)
            if last > first:
                plain = replace(audio or NOTHING, start=first, end=last, kind=kind, name=name or "")
                self._clips.setdefault(track, []).append(plain)
        played = [replace(n, start=max(n.start, 0.0), end=max(n.end, 0.0)) for n in heard.notes]
        self._played.setdefault(track, []).extend(played)
        if heard.passes:
            later = [each._replace(points=cut(each.points, 0.0, float("inf"))) for each in heard.passes]
            self._passes.setdefault(track, []).extend(each for each in later if each.points)
        if heard.curved:
            self.curved.add(track)
        self._placed.setdefault(track, []).extend(each for each in heard.audio if each.end > max(each.start, 0.0))

    # Time

    def _at(self, grid: Grid, time: float) -> float:
        """The second of the piece at which a time on a grid falls."""
        return grid.second + time if grid.unit == "seconds" else self._tempo.seconds(grid.beat + time)

    def _inside(self, grid: Grid, time: float, unit: str) -> Grid:
        """A grid whose zero lies at a time of another one, and that counts in its own unit."""
        second = self._at(grid, time)
        beat = grid.beat + time if grid.unit == "beats" else self._tempo.beat(second)
        return Grid(unit, second, beat)

    def _length(self, grid: Grid, until: float) -> float:
        """How long it is from a grid's zero to a second of the piece, in the grid's unit."""
        return until - grid.second if grid.unit == "seconds" else self._tempo.beat(until) - grid.beat

    # Clips and what they hold

    def _of_clip(self, clip: etree._Element, grid: Grid, depth: int) -> Heard:
        """What a clip on a grid sounds like, through its loops."""
        self._bound(clip)
        if depth > DEEPEST:
            raise ImportRefusedError(f"{place(clip, WHERE)}: clips nest or refer to each other without end.")
        content = self._content(clip) if flag(clip, "enable", True) else None
        if content is None or (content.tag == "Points" and expression(content) is None):
            return Heard()
        start = number(clip, "time", 0, WHERE, -1e9)
        unit = clip.get("contentTimeUnit", content.get("timeUnit", grid.unit))
        play = self._inside(grid, start, unit)
        length = self._clip_length(clip, content, grid, play, start)
        found = Heard()
        for begun, first, last in _passes(clip, length):
            self._bound(clip)
            inner = self._inside(play, begun - first, content.get("timeUnit", unit))
            window = self._at(play, begun), self._at(play, begun + last - first)
            found.add(self._of_content(content, inner, window, depth + 1))
        if content.tag not in ("Clips", "Lanes") and found.pieces:
            # What loops without a gap sounds on.
            found.pieces = [(found.pieces[0][0], found.pieces[-1][1], found.pieces[0][2])]
            found.audio = self._faded(clip, grid, found.audio)
        return found

    def _faded(self, clip: etree._Element, grid: Grid, audio: list[Placed]) -> list[Placed]:
        """The audio of one clip with its fades: the first pass fades in, the last one out."""
        unit = clip.get("fadeTimeUnit", grid.unit)
        lengths = []
        for name, at in (("fadeInTime", 0), ("fadeOutTime", -1)):
            length = number(clip, name, 0, WHERE, 0)
            if unit != "seconds" and audio:
                beat = self._tempo.beat(audio[at].start if at == 0 else audio[at].end)
                length = self._tempo.seconds(beat + length) - self._tempo.seconds(beat)
            lengths.append(length)
        if audio:
            audio[0] = audio[0]._replace(fade_in=lengths[0])
            audio[-1] = audio[-1]._replace(fade_out=lengths[1])
        return audio

    def _bound(self, clip: etree._Element) -> None:
        """Counts a clip, or a pass through it. ImportRefusedError if there are more than any session has."""
        self._visits += 1
        if self._visits > MOST_PIECES:
            raise ImportRefusedError(f"{place(clip, WHERE)}: over {MOST_PIECES} stretches of sound; loops run wild.")

    def _clip_length(
        self, clip: etree._Element, content: etree._Element, grid: Grid, play: Grid, start: float
    ) -> float:
        """How long a clip lasts, in the unit in which it plays: as it says, else as its content does."""
        duration = number(clip, "duration", -1, WHERE)
        if duration >= 0:
            return duration if play.unit == grid.unit else self._length(play, self._at(grid, start + duration))
        if clip.get("playStop") is not None:
            return max(number(clip, "playStop", 0, WHERE) - number(clip, "playStart", 0, WHERE), 0.0)
        return self._content_length(content, play)

    def _content_length(self, content: etree._Element, grid: Grid) -> float:
        """How long content without a stated duration lasts, in the unit of the grid on which it begins."""
        heard = self._of_content(content, grid._replace(unit=content.get("timeUnit", grid.unit)), None, 1)
        ends = [end for _, end, _ in heard.pieces] + [each.points[-1].second for each in heard.passes if each.points]
        return max(self._length(grid, max(ends)), 0.0) if ends else 0.0

    def _of_content(self, content: etree._Element, grid: Grid, window: Stretch | None, depth: int) -> Heard:
        """What a timeline on a grid sounds like, as far as it lies within a window (seconds; None: all of it)."""
        if depth > DEEPEST:
            raise ImportRefusedError(f"{place(content, WHERE)}: clips nest or refer to each other without end.")
        if content.tag in ("Audio", "Warps", "Video"):
            span = window or self._of_audio(content, grid)
            return Heard([(*span, "audio")], [], self._placed_in(content, grid, span))
        if content.tag == "Notes":
            return self._of_notes(content, grid, window)
        found, gains, keys = Heard(), list[Curve](), list[Pressing | None]()
        for child in [content] if content.tag == "Points" else content:
            inner = grid._replace(unit=child.get("timeUnit", grid.unit))
            if child.tag == "Clip":
                found.add(self._of_clip(child, grid, depth + 1))
            elif child.tag == "Points" and content.tag == "Lanes" and is_of_key(child):
                keys.append(self._of_key(child, inner))
            elif child.tag == "Points":
                gain = self._gain(child, inner) if content.tag == "Lanes" else None
                gains += [gain] if gain is not None else []
                found.add(Heard() if gain is not None else self._of_points(child, inner))
            elif child.tag in CONTENT:
                found.add(self._of_content(child, inner, window, depth + 1))
        if gains:
            # With notes beside it, what a gain makes louder is the instrument's affair.
            found.curved |= any(child.tag == "Notes" for child in content)
            found.audio = [each._replace(gains=(*gains, *each.gains)) for each in found.audio]
        if keys:
            found.notes, told = _pressed(found.notes, keys)
            found.curved |= not told
        return found if window is None else found.within(*window)

    def _of_key(self, points: etree._Element, grid: Grid) -> Pressing | None:
        """How hard a key is pressed; None if that cannot be followed."""
        self._points += len(points)
        return of_key(points, lambda time: self._at(grid, time)) if self._points <= MOST_POINTS else None

    def _of_points(self, points: etree._Element, grid: Grid) -> Heard:
        """What a curve on a grid tells of a controller; `curved` where it moves something else that is played."""
        if expression(points) is None:
            return Heard()
        self._points += len(points)
        found = followed(points, lambda time: self._at(grid, time)) if self._points <= MOST_POINTS else None
        return Heard(curved=True) if found is None else Heard(passes=[found])

    def _gain(self, points: etree._Element, grid: Grid) -> Curve | None:
        """The curve that makes audio louder or softer; None if it is none that can be followed."""
        target, unit = expression(points), points.get("unit", "linear")
        if target is None or target.get("expression") != "gain" or unit not in GAINS:
            return None
        try:
            moves = real_points(points, lambda time: self._at(grid, time))
        except ImportRefusedError:
            return None
        self._points += len(moves)
        if self._points > MOST_POINTS or not moves:
            return None
        return Curve(moves, GAINS[unit])

    def _placed_in(self, content: etree._Element, grid: Grid, span: Stretch) -> list[Placed]:
        """Which part of its file a piece of audio plays. Warp points say where in the file a time is."""
        audio = content if content.tag == "Audio" else next(content.iter("Audio"), None)
        if audio is None:
            return []
        points = []
        if content.tag == "Warps" and content.get("contentTimeUnit", "seconds") == "seconds":
            inside = grid._replace(unit=content.get("timeUnit", grid.unit))
            points = sorted(
                (self._at(inside, number(w, "time", 0, WHERE)) - grid.second, number(w, "contentTime", 0, WHERE))
                for w in content.findall("Warp")
            )
        shifts = [recorded - played for played, recorded in points]
        even = not shifts or max(shifts) - min(shifts) < UNSTRETCHED
        same_unit = content.tag != "Warps" or content.get("contentTimeUnit", "seconds") == "seconds"
        shift = shifts[0] if shifts else 0.0
        return [Placed(*span, span[0] - grid.second + shift, audio, not (even and same_unit))]

    def _of_notes(self, content: etree._Element, grid: Grid, window: Stretch | None) -> Heard:
        """Notes: the clip sounds as long as it lasts, whatever is played in it."""
        found, curved = [], False
        for note in content.findall("Note"):
            begin = number(note, "time", 0, WHERE)
            end = begin + number(note, "duration", 0, WHERE, 0)
            second = self._at(grid, begin)
            if window is None or window[0] - LEAST <= second < window[1]:
                until = self._at(grid, end)
                key, velocity = number(note, "key", 60, WHERE, 0, 127), number(note, "vel", 0.8, WHERE, 0, 1)
                cut_at = until if window is None else min(until, window[1])
                does = self._expressions(note, grid, begin) if len(note) else ()
                curved |= does is None
                found.append(NotePart(second, cut_at, round(key), velocity, channel_of(note), does or ()))
        self._counted_notes += len(found)
        if self._counted_notes > MOST_NOTES:
            raise ImportRefusedError(f"{place(content, WHERE)}: over {MOST_NOTES} notes; loops run wild.")
        if window is None:
            window = (grid.second, max((note.end for note in found), default=grid.second))
        return Heard([(*window, "notes")], found, curved=curved)

    def _expressions(self, note: etree._Element, grid: Grid, begin: float) -> tuple[Expression, ...] | None:
        """What a note that begins at a time of a grid does while it lasts; None if that cannot be followed."""
        self._points += sum(len(points) for points in note.iter("Points"))
        if self._points > MOST_POINTS:
            return None
        return of_note(note, lambda unit, time: self._at(self._inside(grid, begin, unit or grid.unit), time))

    def _of_audio(self, content: etree._Element, grid: Grid) -> Stretch:
        """From when to when audio sounds that is as long as its file says."""
        audio = content if content.tag != "Warps" else next(content.iter("Audio"), content)
        return grid.second, grid.second + number(audio, "duration", 0, WHERE, 0)

    def _content(self, clip: etree._Element) -> etree._Element | None:
        """What a clip holds, or what it refers to; None if that does not exist or nothing is there."""
        reference = clip.get("reference")
        if reference is not None:
            found = self._by_id.get(reference)
            if found is None and reference not in self._missing:
                self._missing.add(reference)
                self._left_out.append(
                    f"{place(clip, WHERE)}: it refers to what does not exist, so it is silent: {reference!r}."
                )
            if found is not None and found.tag == "Clip":
                return self._content(found) if found.get("reference") != reference else None
            return found
        return next((c for c in clip if c.tag in CONTENT), None)

    def _audio(self, clip: etree._Element, unit: str) -> Clip | None:
        """What is known of the audio file that a clip plays, as a clip without place; None if it plays none."""
        content = self._content(clip)
        return None if content is None else self._audio_of(content, clip, unit)

    def _audio_of(self, content: etree._Element, clip: etree._Element, unit: str) -> Clip | None:
        audio = content if content.tag == "Audio" else next(content.iter("Audio"), None)
        if audio is None:
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
            (
                self._at(Grid(inside), max(start, 0.0) + number(w, "time", 0, WHERE)),
                number(w, "contentTime", 0, WHERE),
            )
            for w in warps.findall("Warp")
        )
        if warps.get("contentTimeUnit", "seconds") != "seconds":
            return False
        spans = ((b[0] - a[0], b[1] - a[1]) for a, b in pairwise(points))
        return any(abs(played - recorded) > STRETCHED * max(played, 1e-6) for played, recorded in spans)


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


def _pressed(notes: list[NotePart], keys: list[Pressing | None]) -> tuple[list[NotePart], bool]:
    """Notes as their keys are pressed, and whether all of it could be followed."""
    now = pressed(notes, [each for each in keys if each is not None])
    return (notes, False) if now is None else (now, None not in keys)


def _passes(clip: etree._Element, length: float) -> Iterator[tuple[float, float, float]]:
    """The passes through a clip's content, in the unit in which it plays: where one begins after the clip's start, and
    the first and last content time heard."""
    play = number(clip, "playStart", 0, WHERE)
    loop_start, loop_end = number(clip, "loopStart", 0, WHERE), number(clip, "loopEnd", -1, WHERE)
    if loop_end - loop_start < SHORTEST_LOOP:
        yield 0.0, play, play + length
        return
    at, first = 0.0, play
    while at < length - LEAST:
        last = min(loop_end, first + length - at) if first < loop_end else first + length - at
        yield at, first, last
        at += last - first
        first = loop_start
