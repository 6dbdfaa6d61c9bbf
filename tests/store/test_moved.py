"""Files that an exchange file names as they were called where it was written."""

from __future__ import annotations

import zipfile

import numpy as np
import pytest
import soundfile

from nimbleload.store import audio
from nimbleload.store.archive import Archive
from nimbleload.store.moved import referred_at
from nimbleload.store.sounding import Part


@pytest.fixture
def home(tmp_path):
    """A folder with a session that came from another computer, its audio beside it."""
    found = tmp_path / "mix"
    for name in ("a.wav", "audio/a.wav", "audio/take 1.wav", "Samples/kick.wav"):
        (found / name).parent.mkdir(parents=True, exist_ok=True)
        soundfile.write(found / name, np.zeros((10, 2)), 48000)
    return found


@pytest.mark.parametrize("name, lies", [
    ("audio/a.wav", "audio/a.wav"), ("audio\\a.wav", "audio/a.wav"),
    ("/Users/ann/Music/mix/audio/a.wav", "audio/a.wav"), ("C:\\Music\\mix\\Samples\\kick.wav", "Samples/kick.wav"),
    ("d:/mix/audio/take 1.wav", "audio/take 1.wav"), ("file:///Users/ann/mix/audio/take%201.wav", "audio/take 1.wav"),
    # What is only missing is no other file of its name.
    ("audio/b.wav", None), ("takes/a.wav", None), ("/tmp/a.wav", None), ("C:\\b.wav", None),
])  # fmt: skip
def test_files_are_found_that_were_moved_along(home, name, lies):
    found = referred_at(name, home)
    assert found == home / lies if lies else not found.exists()


def test_a_file_that_is_there_as_it_is_named_is_that_one(home, tmp_path):
    other = tmp_path / "audio" / "a.wav"
    other.parent.mkdir()
    other.write_bytes(b"another")
    assert referred_at(str(other), home) == other and referred_at("../audio/a.wav", home).samefile(other)
    odd = home / "odd\\name.wav"
    odd.write_bytes(b"a backslash is a letter here")
    assert referred_at("odd\\name.wav", home) == odd


@pytest.mark.parametrize("stored, named", [("audio\\a.wav", "audio/a.wav"), ("audio/a.wav", "audio\\a.wav"),
                                           ("audio/a.wav", "./audio/a.wav")])  # fmt: skip
def test_entries_are_found_however_folders_are_parted(tmp_path, home, stored, named):
    with zipfile.ZipFile(tmp_path / "a.dawproject", "w") as made:
        made.write(home / "a.wav", stored)
    with Archive(tmp_path / "a.dawproject") as archive:
        assert named in archive and archive.stamp(named) == archive.stamp(stored)
        assert archive.head(named, 4) == b"RIFF" and archive.read(named, 1 << 20)[:4] == b"RIFF"
    with audio.Sources(tmp_path / "a.dawproject") as sources:
        assert sources.file(Part(0.0, 1.0, 0.0, named)).frames == 10


def test_audio_that_was_moved_along_is_played(home):
    with zipfile.ZipFile(home / "a.dawproject", "w"):
        pass
    part = Part(0.0, 1.0, 0.0, "C:\\Music\\mix\\audio\\a.wav", True)
    with audio.Sources(home / "a.dawproject") as sources:
        assert sources.has(part) and sources.file(part).frames == 10 and sources.stamp(part)
        assert not sources.has(Part(0.0, 1.0, 0.0, "/nowhere/b.wav", True))
