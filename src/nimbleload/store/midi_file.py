"""Standard MIDI files as a session: a track for each track and channel that plays, tempo and markers.

Each track of the file is read by itself, so that one that is damaged does not take the others with it.
"""

from __future__ import annotations

import io
import re
import struct
from collections import defaultdict
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from ..core.piece.notes import bars, counted
from ..core.session.controllers import BEND, BEND_STEPS, PEDAL, PRESSURE, STEPS, Controller, pressed, sustained
from ..core.session.curves import Curve, Point
from ..core.session.edits import empty
from ..core.session.expressions import PRESSED, Expression
from ..core.session.meter import is_possible
from ..core.session.session import Meter, Section, Session, SessionError, TempoPoint, Timing
from ..core.session.strips import Clip, Strip, within
from ..core.session.tempo import TempoMap
from ..core.units import agreeing, clock, count, said_by
from .dawproject import ImportReport
from .found import Found, NothingFoundError, Progress, StoppedError, content_of, decoded, name_of, shortened, unheard
from .sounding import NotePart

if TYPE_CHECKING:
    import mido

ENDINGS = (".mid", ".midi", ".smf", ".kar")
LARGEST = 64 << 20
MOST_TRACKS, MOST_NOTES, MOST_TURNS = 1000, 1_000_000, 1_000_000
# What bend has where it rests, from its least.
CENTRE = 8192
# Where a part rests for longer than this (seconds), its next note begins another clip.
REST = 4.0
PERCUSSION = 9


class Played(NamedTuple):
    """One note: from tick to tick, key and velocity as in the file, and how hard its key is pressed from which tick on.
    """

    start: int
    end: int
    key: int
    velocity: int
    pressed: tuple[tuple[int, int], ...] = ()


KEY_SIGNATURE, KEY_SIGNATURE_OF_C = re.compile(rb"\xff\x59\x02..", re.DOTALL), b"\xff\x59\x02\0\0"


class Turned(NamedTuple):
    """A controller that gets another value (0 … 1) at a tick; its number as `core.session.controllers` has it."""

    tick: int
    number: int
    value: float


class Part(NamedTuple):
    """What one track plays on one channel."""

    name: str
    track: int
    channel: int
    notes: list[Played]
    turned: list[Turned]


class PartPlayed(NamedTuple):
    """What a part plays, by the seconds of its file."""

    notes: tuple[NotePart, ...]
    controllers: tuple[Controller, ...]


class _Read:
    """What has been read so far of one file."""

    def __init__(self) -> None:
        self.parts: list[Part] = []
        self.tempi: dict[int, float] = {}
        self.meters: dict[int, tuple[int, int]] = {}
        self.markers: list[tuple[int, str]] = []
        self.left_out: list[str] = []
        self.notes = self.turns = self.programs = 0


def read(path: Path, rate: int = 48000, progress: Progress = unheard) -> Found:
    """Makes a session of a standard MIDI file: parts without instruments, to be given some. `rate` in hertz.

    NothingFoundError if it is none, or plays nothing; StoppedError if `progress` says so.
    """
    ticks, found = _read_file(path, progress)
    return _found(path, rate, ticks, found)


def played_in(file: str) -> PartPlayed:
    """What one part plays; `file` is what its clips name: path#track.channel.

    NothingFoundError if it cannot be read any more, or has no such part.
    """
    path, _, which = file.rpartition("#")
    try:
        changed = Path(path).stat().st_mtime_ns
    except OSError as error:
        raise NothingFoundError(f"{path} cannot be read: {said_by(error)}.") from error
    parts = _played_by_part(path, changed)
    if which not in parts:
        raise NothingFoundError(f"{path} has no part {which} any more.")
    return parts[which]


@lru_cache(maxsize=4)
def _played_by_part(path: str, changed: int) -> dict[str, PartPlayed]:
    """What a file plays that was changed at that time (ns), by track and channel."""
    ticks, found = _read_file(Path(path), unheard)
    tempo = TempoMap(_tempi(found, ticks))
    return {
        f"{part.track}.{part.channel}": PartPlayed(
            tuple(
                NotePart(
                    tempo.seconds(note.start / ticks), tempo.seconds(note.end / ticks), note.key, note.velocity / 127,
                    part.channel, _pressed(note, tempo, ticks),
                )
                for note in part.notes
            ),
            _controllers(part, tempo, ticks),
        )
        for part in found.parts
    }  # fmt: skip


def _pressed(note: Played, tempo: TempoMap, ticks: int) -> tuple[Expression, ...]:
    """How hard the key of a note is pressed, by the seconds of its file; nothing where that is not told."""
    points = tuple(Point(tempo.seconds(tick / ticks), value / STEPS) for tick, value in note.pressed)
    return (Expression(PRESSED, Curve(points)),) if points else ()


def _controllers(part: Part, tempo: TempoMap, ticks: int) -> tuple[Controller, ...]:
    """How the controllers of a part go, by the seconds of its file."""
    points: dict[int, list[Point]] = defaultdict(list)
    for each in part.turned:
        points[each.number].append(Point(tempo.seconds(each.tick / ticks), each.value))
    return tuple(
        Controller(number, Curve(tuple(found)), part.channel) for number, found in sorted(points.items())
    )  # fmt: skip


def _read_file(path: Path, progress: Progress) -> tuple[int, _Read]:
    """Ticks a quarter note, and what the tracks of a file hold."""
    content = content_of(path, LARGEST, ", which no MIDI file needs.")
    ticks, chunks, left_out = _chunks(content, path)
    found = _Read()
    found.left_out += left_out
    for number, chunk in enumerate(chunks[:MOST_TRACKS]):
        _read_track(found, number, chunk)
        if progress((number + 1) / len(chunks), f"track {number + 1}"):
            raise StoppedError(f"Reading stopped at track {number + 1} of {path.name}. Nothing was added.")
    if len(chunks) > MOST_TRACKS:
        found.left_out.append(f"{len(chunks) - MOST_TRACKS} more tracks: at most {MOST_TRACKS} are taken.")
    if not found.parts:
        why = f" {found.left_out[0]}" if found.left_out else ""
        raise NothingFoundError(f"{path.name} plays no notes.{why} Nothing was added.")
    return ticks, found


def _chunks(content: bytes, path: Path) -> tuple[int, list[bytes], list[str]]:
    """Ticks a quarter note and the bytes of each track. NothingFoundError if it is no file of that kind."""
    if content[:4] != b"MThd" or len(content) < 14:
        raise NothingFoundError(f"{path.name} is no standard MIDI file: it does not begin with its mark.")
    length, kind, _, division = struct.unpack(">IHHH", content[4:14])
    if kind == 2:
        raise NothingFoundError(f"{path.name} is of format 2: its tracks do not belong together. Nothing was added.")
    if division & 0x8000 or division == 0:
        raise NothingFoundError(f"{path.name} counts in film frames, not in beats: that is not read.")
    at, chunks, left = 8 + length, [], []
    while at + 8 <= len(content):
        mark, size = content[at : at + 4], struct.unpack(">I", content[at + 4 : at + 8])[0]
        body = content[at + 8 : at + 8 + size]
        if mark == b"MTrk":
            chunks.append(body)
            if len(body) < size:
                left.append(f"Track {len(chunks)} ends early: {len(body)} of {size} bytes are there.")
        at += 8 + size
    return division, chunks, left


def _messages(chunk: bytes) -> tuple[mido.MidiTrack, str]:
    """The messages of one track; none, and what is wrong with it, if it is damaged."""
    import mido  # imported here: it would lengthen every start

    whole = struct.pack(">4sIHHH", b"MThd", 6, 0, 1, 96) + b"MTrk" + struct.pack(">I", len(chunk)) + chunk
    try:
        return mido.MidiFile(file=io.BytesIO(whole), clip=True).tracks[0], ""
    except mido.KeySignatureError as error:
        # Nobody needs it here: with one that can be, the track may be read.
        plain = KEY_SIGNATURE.sub(KEY_SIGNATURE_OF_C, chunk)
        return _messages(plain) if plain != chunk else (mido.MidiTrack(), str(error))
    except EOFError:
        return mido.MidiTrack(), "it ends in the middle of a message"
    except (OSError, ValueError, LookupError, TypeError, struct.error) as error:
        return mido.MidiTrack(), str(error) or type(error).__name__


def _read_track(found: _Read, number: int, chunk: bytes) -> None:
    messages, fault = _messages(chunk)
    if fault:
        found.left_out.append(f"Track {number + 1} is damaged and left out: {fault}.")
    tick, name = 0, ""
    begun: dict[tuple[int, int], list[tuple[int, int, list[tuple[int, int]]]]] = defaultdict(list)
    notes: dict[int, list[Played]] = defaultdict(list)
    turned: dict[int, list[Turned]] = defaultdict(list)
    left = 0
    for message in messages:
        tick += int(message.time)
        if message.type == "set_tempo":
            found.tempi[tick] = 6e7 / max(message.tempo, 1)
        elif message.type == "time_signature":
            found.meters[tick] = message.numerator, message.denominator
        elif message.type == "marker" and len(found.markers) < 1000:
            found.markers.append((tick, _words(message.text)))
        elif message.type == "track_name" and not name:
            name = _words(message.name)
        elif message.type == "note_on" and message.velocity > 0:
            begun[message.channel, message.note].append((tick, message.velocity, []))
        elif message.type in ("note_off", "note_on"):
            starts = begun.get((message.channel, message.note))
            if starts:
                notes[message.channel].append(_ended(message.note, tick, *starts.pop(0)))
        elif message.type == "polytouch" and begun.get((message.channel, message.note)) and found.turns < MOST_TURNS:
            found.turns += 1
            for *_, pressed in begun[message.channel, message.note]:
                pressed.append((tick, message.value))
        elif (turn := _turn(tick, message)) is not None and found.turns < MOST_TURNS:
            found.turns += 1
            turned[message.channel].append(turn)
        elif message.type == "program_change":
            found.programs += 1
        elif turn is not None or message.type == "polytouch":
            left += 1
    held = sum(map(len, begun.values()))
    for (channel, key), starts in begun.items():
        notes[channel] += [_ended(key, tick, *each) for each in starts if tick > each[0]]
    if held:
        found.left_out.append(f"Track {number + 1}: {count(held, 'note')} never let go, and so ended with the track.")
    called = name or f"Track {number + 1}"
    left += sum(len(turns) for channel, turns in turned.items() if channel not in notes)
    if left:
        found.left_out.append(
            f"{called}: {agreeing(left, 'message presses', 'messages press')} keys that are not down, or "
            f"{'turns' if left == 1 else 'turn'} controllers where nothing is played."
        )
    for channel, played in sorted(notes.items()):
        if found.notes + len(played) > MOST_NOTES:
            found.left_out.append(f"{called}: more than {MOST_NOTES} notes in all; the rest is left out.")
            played = played[: MOST_NOTES - found.notes]
        found.notes += len(played)
        if played:
            name = _called(called, channel, len(notes))
            found.parts.append(Part(name, number, channel, sorted(played), turned[channel]))


def _words(said: str) -> str:
    """What a message says: the bytes of the file stand for themselves in it, whatever they were written in."""
    return name_of(decoded(said.encode("latin-1")))


def _ended(key: int, tick: int, start: int, velocity: int, pressed: list[tuple[int, int]]) -> Played:
    """The note of a key that has begun, with how it was pressed, and ends at a tick."""
    return Played(start, tick, key, velocity, tuple(pressed))


def _turn(tick: int, message: mido.Message) -> Turned | None:
    """What a message does to a controller; None if it does nothing to one."""
    match message.type:
        case "control_change":
            return Turned(tick, message.control, message.value / STEPS)
        case "aftertouch":
            return Turned(tick, PRESSURE, message.value / STEPS)
        case "pitchwheel":
            return Turned(tick, BEND, (message.pitch + CENTRE) / BEND_STEPS)
    return None


def _called(name: str, channel: int, channels: int) -> str:
    if channels == 1:
        return name
    return f"{name} (percussion)" if channel == PERCUSSION else f"{name} (channel {channel + 1})"


def _tempi(of: _Read, ticks: int) -> tuple[TempoPoint, ...]:
    """The tempi that are possible, the usual one first where none is set at the beginning."""
    points = [TempoPoint(tick / ticks, bpm) for tick, bpm in sorted(of.tempi.items()) if 1 <= bpm <= 10_000]
    if not points or points[0].beat > 0:
        points.insert(0, TempoPoint(0.0, 120.0))
    return tuple(points)


def _meters(of: _Read, ticks: int) -> tuple[Meter, ...]:
    """The time signatures that are possible, the usual one first where none is set at the beginning."""
    signs = sorted(of.meters.items())
    found = [Meter(tick / ticks, *sign) for tick, sign in signs if is_possible(*sign)]
    if len(found) < len(signs):
        of.left_out.append(f"{count(len(signs) - len(found), 'time signature')} that cannot be.")
    return tuple(found) if found and not found[0].beat else (Meter(), *found)


def _found(path: Path, rate: int, ticks: int, of: _Read) -> Found:
    possible = _tempi(of, ticks)
    wrong = sum(1 for bpm in of.tempi.values() if not 1 <= bpm <= 10_000)
    if wrong:
        of.left_out.append(f"{agreeing(wrong, 'tempo that is', 'tempi that are')} not possible.")
    if of.programs:
        chosen = agreeing(of.programs, "message that chooses a sound", "messages that choose sounds")
        of.left_out.insert(0, f"{chosen} (program changes): the instruments put in here keep theirs, or a preset.")
    try:
        tempo = TempoMap(possible)
    except SessionError as error:
        raise NothingFoundError(f"{path.name}: {error}. Nothing was added.") from error
    last = max(
        max(note.end for part in of.parts for note in part.notes),
        max((turn.tick for part in of.parts for turn in part.turned if turn.number == PEDAL), default=0),
    )  # fmt: skip
    length = tempo.seconds(last / ticks)
    meters = _meters(of, ticks)
    lines = bars(Timing(possible, meters), length)
    strips = []
    for number, part in enumerate(of.parts):
        played = [(tempo.seconds(note.start / ticks), tempo.seconds(note.end / ticks), note.key) for note in part.notes]
        notes = sustained(played, pressed(_controllers(part, tempo, ticks)), length)
        file = f"{path.resolve()}#{part.track}.{part.channel}"
        profile = counted(notes, lines)
        clips = tuple(
            Clip(start, end, "notes", part.name, file, within(profile, start, end), offset=start)
            for start, end in _clips(notes)
        )
        strips.append(Strip(f"track{number + 1}", part.name, output="main", clips=clips))
    blank = empty(path.stem, rate, length)
    sections: dict[float, str] = {}
    for tick, name in sorted(of.markers):
        sections.setdefault(tempo.seconds(tick / ticks), name or "Section")
    session = Session(
        blank.name, rate, max([length, *sections]), (*strips, *blank.strips),
        tuple(Section(name, start) for start, name in sections.items()), possible,
        source=str(path.absolute()), meters=meters,
    )  # fmt: skip
    understood = [
        f"{count(len(of.parts), 'part')} with {count(of.notes, 'note')}, {clock(length)}: a track each, "
        "without instruments.",
        f"{len(possible)} tempi." if len(possible) > 1 else f"{possible[0].bpm:.4g} beats a minute.",
    ]
    if sections:
        understood.append(f"{count(len(sections), 'marker')}, as sections.")
    return Found(session, ImportReport(str(path), "", tuple(understood), shortened(of.left_out, "remarks")))


def _clips(notes: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """From when to when a part plays; a long rest parts two clips."""
    found: list[tuple[float, float]] = []
    for start, end in notes:
        if found and start - found[-1][1] <= REST:
            found[-1] = (found[-1][0], max(found[-1][1], end))
        else:
            found.append((start, end))
    return found
