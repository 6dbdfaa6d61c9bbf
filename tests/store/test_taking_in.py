"""Several files and folders taken in at once, as they are dropped onto a window."""

from __future__ import annotations

import mido
import numpy as np
import pytest
import soundfile

from nimbleload.store.found import NothingFoundError, StoppedError
from nimbleload.store.taking_in import take_in_all


def lookup(name, standard):
    return None


@pytest.fixture
def files(tmp_path):
    (tmp_path / "b").mkdir()
    found = {"one": tmp_path / "one.wav", "two": tmp_path / "b" / "two.wav"}
    for path in found.values():
        soundfile.write(path, np.full((48000, 2), 0.1), 48000)
    made = mido.MidiFile()
    made.tracks.append(mido.MidiTrack([mido.Message("note_on", note=60), mido.Message("note_off", note=60, time=480)]))
    made.save(tmp_path / "keys.mid")
    (tmp_path / "t.csv").write_text("track,from,to\none,0,9\n")
    (tmp_path / "broken.mid").write_bytes(b"MThd no")
    return found | {name: tmp_path / name for name in ("keys.mid", "t.csv", "broken.mid")}


def names(found):
    return [(strip.name, strip.output) for strip in found.session.strips]


def test_audio_files_are_taken_as_if_they_lay_in_one_folder(files):
    found = take_in_all([files["two"], files["one"]], lookup)
    assert names(found) == [("two", "bus1"), ("one", "main"), ("b", "main"), ("Main", None)]
    assert found.report.file == "two.wav and 1 more" and found.report.understood[0].startswith("2 audio files")


def test_files_of_several_kinds_come_together_and_what_is_damaged_is_told(files):
    shares = []
    found = take_in_all(
        [files["keys.mid"], files["broken.mid"], files["one"], files["t.csv"]], lookup,
        progress=lambda share, _: bool(shares.append(share)),
    )  # fmt: skip
    assert [name for name, _ in names(found)] == ["one", "Track 1", "one 2", "Main"]
    assert found.session.length == 9.0 and shares == sorted(shares) and max(shares) <= 1.0
    assert any(line.startswith("broken.mid is no standard MIDI file") for line in found.report.left_out)
    assert any(line.startswith("t.csv: 2 tracks") for line in found.report.understood)


def test_where_nothing_can_be_taken_it_says_why(files):
    with pytest.raises(NothingFoundError, match=r"Nothing was added of 2 files\. broken.mid is no standard MIDI file"):
        take_in_all([files["broken.mid"], files["broken.mid"]], lookup)
    with pytest.raises(StoppedError):
        take_in_all([files["one"], files["two"]], lookup, progress=lambda share, _: True)
