"""Standard MIDI files: notes, tempo and markers against what was written; and files that are damaged."""

from __future__ import annotations

import os
import random
import struct
from pathlib import Path

import mido
import pytest

from nimbleload.core.session.session import Meter, TempoPoint
from nimbleload.store import midi_file
from nimbleload.store.found import NothingFoundError, StoppedError


def note(key, start, end, channel=0):
    return [(start, mido.Message("note_on", note=key, velocity=80, channel=channel)),
            (end, mido.Message("note_off", note=key, channel=channel))]  # fmt: skip


def meta(at, kind, **fields):
    return [(at, mido.MetaMessage(kind, **fields))]


def written(path, *tracks, ticks=480, kind=1):
    """A file whose tracks are lists of (tick, message)."""
    made = mido.MidiFile(ticks_per_beat=ticks, type=kind)
    for events in tracks:
        track, now = mido.MidiTrack(), 0
        for at, message in sorted(events, key=lambda each: each[0]):
            track.append(message.copy(time=at - now))
            now = at
        made.tracks.append(track)
    made.save(path)
    return path


def test_parts_lie_where_their_notes_are(tmp_path):
    path = written(
        tmp_path / "song.mid",
        meta(0, "set_tempo", tempo=1_000_000) + meta(960, "set_tempo", tempo=500_000) + meta(480, "marker", text="Two"),
        meta(0, "track_name", name="Organ") + note(60, 0, 480) + note(64, 240, 960) + note(67, 960, 1920),
    )
    found = midi_file.read(path)
    assert found.report.understood[0] == "1 part with 3 notes, 0:03: a track each, without instruments."
    made = found.session
    assert made.tempo == (TempoPoint(0, 60), TempoPoint(2, 120)) and made.meters == (Meter(),)
    (clip,) = made.strips[0].clips
    # Two beats at 60, two at 120.
    assert (made.strips[0].name, clip.kind, clip.start, clip.end) == ("Organ", "notes", 0, 3)
    assert clip.voices == ((0.0, 2),)
    assert [(s.name, s.start) for s in made.sections] == [("Two", 1.0)]
    assert made.strips[0].instrument is None and made.strips[0].output == "main"


def test_how_many_notes_sound_together_bar_by_bar(tmp_path):
    # Four beats a bar at 120: two seconds. One note, then three, then one.
    notes = note(60, 0, 1900)
    for key in (60, 64, 67):
        notes += note(key, 1920, 3800)
    path = written(tmp_path / "a.mid", notes + note(72, 3840, 5000))
    (clip,) = midi_file.read(path).session.strips[0].clips
    assert clip.voices == ((0.0, 1), (2.0, 3), (4.0, 1))


def test_a_long_rest_parts_two_clips(tmp_path):
    path = written(tmp_path / "a.mid", note(60, 0, 480) + note(60, 960, 1440) + note(60, 10560, 11040))
    clips = midi_file.read(path).session.strips[0].clips
    assert [(clip.start, clip.end) for clip in clips] == [(0, 1.5), (11, 11.5)]


def test_channels_of_one_track_are_parts_of_their_own(tmp_path):
    path = written(
        tmp_path / "a.mid",
        meta(0, "track_name", name="All") + note(60, 0, 480, 0) + note(36, 0, 480, 9) + note(60, 0, 480, 3), kind=0,
    )  # fmt: skip
    assert [s.name for s in midi_file.read(path).session.strips] == [
        "All (channel 1)", "All (channel 4)", "All (percussion)", "Main",
    ]  # fmt: skip


def test_notes_that_are_never_let_go_end_with_the_track(tmp_path):
    path = written(
        tmp_path / "a.mid",
        [(0, mido.Message("note_on", note=60)), (0, mido.Message("note_on", note=60)), *meta(960, "text", text="x")],
    )
    found = midi_file.read(path)
    assert found.session.strips[0].clips[0].end == 1
    assert "2 notes never let go" in found.report.left_out[0]


def test_a_note_of_no_speed_lets_go(tmp_path):
    path = written(
        tmp_path / "a.mid",
        [(0, mido.Message("note_on", note=60)), (480, mido.Message("note_on", note=60, velocity=0))],
    )
    assert midi_file.read(path).session.strips[0].clips[0].end == 0.5


def raw(*chunks, kind=1, division=480):
    head = struct.pack(">4sIHHH", b"MThd", 6, kind, len(chunks), division)
    return head + b"".join(b"MTrk" + struct.pack(">I", len(chunk)) + chunk for chunk in chunks)


GOOD = bytes([0, 0x90, 60, 80, 0x83, 0x60, 60, 0, 0, 0xFF, 0x2F, 0])  # running status: on, off


def test_a_damaged_track_does_not_take_the_others_with_it(tmp_path):
    path = tmp_path / "a.mid"
    path.write_bytes(raw(bytes([0, 60, 80, 0]), GOOD, bytes([0, 0x90, 60])))
    found = midi_file.read(path)
    assert [strip.name for strip in found.session.strips] == ["Track 2", "Main"]
    assert found.session.strips[0].clips[0].end == 0.5
    assert [line[:7] for line in found.report.left_out] == ["Track 1", "Track 3"]


@pytest.mark.parametrize(
    "content, words",
    [
        (b"", "no standard MIDI file"),
        (b"RIFF" + bytes(60), "no standard MIDI file"),
        (raw(GOOD, kind=2), "format 2"),
        (raw(GOOD, division=0xE728), "film frames"),
        (raw(GOOD, division=0), "film frames"),
        (raw(), "plays no notes"),
        (raw(bytes([0, 60])), "plays no notes. Track 1 is damaged"),
        (raw(GOOD)[:-6], "plays no notes. Track 1 ends early"),
    ],
)
def test_what_cannot_be_read_is_a_sentence(tmp_path, content, words):
    path = tmp_path / "a.mid"
    path.write_bytes(content)
    with pytest.raises(NothingFoundError, match=words):
        midi_file.read(path)


def test_a_missing_file_is_a_sentence(tmp_path):
    with pytest.raises(NothingFoundError, match="cannot be read"):
        midi_file.read(tmp_path / "none.mid")


def test_bounds_are_kept_and_said(tmp_path, monkeypatch):
    path = written(tmp_path / "a.mid", *[note(60, 0, 480) + note(62, 480, 960) for _ in range(4)])
    monkeypatch.setattr(midi_file, "MOST_TRACKS", 3)
    monkeypatch.setattr(midi_file, "MOST_NOTES", 5)
    found = midi_file.read(path)
    assert len(found.session.strips) == 4
    assert any("1 more tracks" in line for line in found.report.left_out)
    assert any("more than 5 notes" in line for line in found.report.left_out)
    monkeypatch.setattr(midi_file, "LARGEST", 10)
    with pytest.raises(NothingFoundError, match="MB"):
        midi_file.read(path)


def test_time_signatures_are_taken_and_what_cannot_be_one_is_said(tmp_path):
    signs = meta(960, "time_signature", numerator=6, denominator=8) + meta(1920, "time_signature", numerator=0)
    found = midi_file.read(written(tmp_path / "a.mid", signs + note(60, 0, 4800)))
    # In fours until the first one, as long as nothing else is said.
    assert found.session.meters == (Meter(), Meter(2.0, 6, 8))
    assert "1 time signature that cannot be." in found.report.left_out


def test_tempi_that_are_not_possible_are_left_out(tmp_path):
    path = written(tmp_path / "a.mid", meta(0, "set_tempo", tempo=0) + note(60, 0, 480))
    found = midi_file.read(path)
    assert found.session.tempo == (TempoPoint(0, 120),) and found.session.length == 0.5
    assert found.report.left_out == ("1 tempo that is not possible.",)


def test_a_key_signature_that_cannot_be_takes_no_notes_away(tmp_path):
    whole = written(tmp_path / "a.mid", meta(0, "key_signature", key="C") + note(60, 0, 480)).read_bytes()
    path = tmp_path / "b.mid"
    path.write_bytes(whole.replace(b"\xff\x59\x02\0\0", b"\xff\x59\x02\x07\xa1"))
    assert path.read_bytes() != whole
    found = midi_file.read(path)
    assert found.report.left_out == () and found.session.strips[0].clips[0].end == 0.5
    # One that is too long as well is a damaged track, in a sentence.
    path.write_bytes(whole.replace(b"\xff\x59\x02\0\0", b"\xff\x59\x03\x07\xa1"))
    with pytest.raises(NothingFoundError, match="Track 1 is damaged and left out"):
        midi_file.read(path)


def test_it_can_be_stopped(tmp_path):
    path = written(tmp_path / "a.mid", note(60, 0, 480), note(60, 0, 480))
    with pytest.raises(StoppedError, match="track 1"):
        midi_file.read(path, progress=lambda share, doing: True)


def test_mutated_files_end_in_a_session_or_a_sentence(tmp_path):
    whole = written(
        tmp_path / "a.mid",
        meta(0, "set_tempo", tempo=600_000) + meta(200, "marker", text="x"), note(60, 0, 480) + note(64, 100, 900),
    ).read_bytes()  # fmt: skip
    rng, path = random.Random(5), tmp_path / "b.mid"
    for _ in range(400):
        mutant = bytearray(whole)
        for _ in range(rng.randint(1, 6)):
            mutant[rng.randrange(len(mutant))] = rng.randrange(256)
        path.write_bytes(mutant[: rng.choice((len(mutant), rng.randrange(len(mutant))))])
        try:
            found = midi_file.read(path)
        except NothingFoundError as error:
            assert str(error)
            continue
        assert found.session.strips[-1].kind == "main" and found.session.length > 0


def test_what_chooses_sounds_is_told_once_for_all_tracks(tmp_path):
    """As almost every file does on every track."""
    parts = [[(0, mido.Message("program_change", program=k, channel=k)), *note(60, 0, 480, k)] for k in range(3)]
    assert midi_file.read(written(tmp_path / "a.mid", *parts)).report.left_out == (
        "3 messages that choose sounds (program changes): the instruments put in here keep theirs, or a preset.",
    )


@pytest.mark.parametrize("raw, name", [
    ("Flöte".encode(), "Flöte"), ("Flöte".encode("cp1252"), "Flöte"), (b"Bass\0\0\0", "Bass"), (b"A\x01B", "A B"),
])  # fmt: skip
def test_names_are_read_in_whatever_they_were_written(tmp_path, raw, name):
    said = raw.decode("latin-1")
    events = meta(0, "track_name", name=said) + meta(0, "marker", text=said) + note(60, 0, 480)
    made = midi_file.read(written(tmp_path / "a.mid", events)).session
    assert (made.strips[0].name, made.sections[0].name) == (name, name)


def test_a_file_that_no_session_could_name_is_refused(tmp_path):
    folder = Path(os.fsdecode(os.fsencode(tmp_path) + b"/l\xe9"))
    folder.mkdir()
    path = written(folder / "a.mid", note(60, 0, 480))
    with pytest.raises(NothingFoundError, match=r"l\?/a.mid: its name, or that of a folder .* rename it first"):
        midi_file.read(path)
