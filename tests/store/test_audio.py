"""Audio files of a session: read from the archive without holding them in memory, and as sounds piece by piece."""

from __future__ import annotations

import tracemalloc
import zipfile
from itertools import product
from pathlib import Path

import numpy as np
import pytest
import soundfile

from nimbleload.store import archive, audio, scratch
from nimbleload.store.archive import ImportRefusedError
from nimbleload.store.sounding import Part
from tests.helpers.stems import chunks

RATE = 48_000


def packed(path, *names, seconds=2.0):
    """An archive with audio of noise under these names; the noise (n, 2)."""
    sound = np.random.default_rng(1).normal(0, 0.1, (round(seconds * RATE), 2)).astype(np.float32)
    wav = path.with_suffix(".wav")
    soundfile.write(wav, sound, RATE, "FLOAT")
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as made:
        for name in names:
            made.write(wav, name)
    wav.unlink()
    return sound


def part(name):
    return Part(0.0, 2.0, 0.0, name)


def test_all_audio_together_may_be_more_than_is_read_into_memory(tmp_path, monkeypatch):
    monkeypatch.setattr(scratch, "folder", lambda: tmp_path / "scratch")
    (tmp_path / "scratch").mkdir()
    names = [f"audio/{k}.wav" for k in range(4)]
    sound = packed(tmp_path / "a.zip", *names)
    # One file fits, two do not.
    monkeypatch.setattr(archive, "MOST_STATES", sound.nbytes + 1000)
    with audio.Sources(tmp_path / "a.zip") as sources:
        for name in names:
            assert np.array_equal(sources.sound(part(name), RATE, 100, RATE), sound[100 : RATE + 100])
        # Nothing lies there under a name: whatever ends the program, it is gone.
        assert not [each for each in (tmp_path / "scratch").rglob("*") if each.is_file()]
    assert not list((tmp_path / "scratch").iterdir())


def test_audio_is_not_held_in_memory(tmp_path):
    packed(tmp_path / "a.zip", "audio/long.wav", seconds=60.0)
    tracemalloc.start()
    try:
        with audio.Sources(tmp_path / "a.zip") as sources:
            sources.sound(part("audio/long.wav"), RATE, 0, 1000)
        assert tracemalloc.get_traced_memory()[1] < 5 << 20
    finally:
        tracemalloc.stop()


def test_an_entry_that_is_larger_than_it_says_or_may_be_is_refused(tmp_path, monkeypatch):
    sound = packed(tmp_path / "a.zip", "audio/a.wav")
    with archive.Archive(tmp_path / "a.zip") as opened:
        with pytest.raises(ImportRefusedError, match="larger than 0 MB"):
            opened.unpack("audio/a.wav", tmp_path / "a.wav", sound.nbytes // 2)
        with pytest.raises(ImportRefusedError, match="does not hold"):
            opened.unpack("audio/b.wav", tmp_path / "a.wav", 1 << 30)
        with pytest.raises(ImportRefusedError, match="leaves its folder"):
            opened.unpack("../a.wav", tmp_path / "a.wav", 1 << 30)
    monkeypatch.setattr(audio, "LARGEST_AUDIO", 1000)
    with audio.Sources(tmp_path / "a.zip") as sources, pytest.raises(audio.AudioError, match=r"audio/a\.wav.*larger"):
        sources.sound(part("audio/a.wav"), RATE, 0, 100)


def test_a_damaged_entry_is_a_sentence(tmp_path):
    packed(tmp_path / "a.zip", "audio/a.wav")
    content = bytearray((tmp_path / "a.zip").read_bytes())
    content[5000:6000] = bytes(1000)
    (tmp_path / "a.zip").write_bytes(content)
    with audio.Sources(tmp_path / "a.zip") as sources, pytest.raises(audio.AudioError, match="cannot be unpacked"):
        sources.sound(part("audio/a.wav"), RATE, 0, 100)


def test_a_file_is_a_sound_in_pieces(tmp_path):
    sound = np.random.default_rng(2).normal(0, 0.1, (audio.BLOCK * 2 + 77, 2)).astype(np.float32)
    audio.write(tmp_path / "a.wav", iter([sound[:1000], sound[1000:]]), RATE)
    with audio.File(tmp_path / "a.wav") as file:
        assert len(file) == len(sound)
        assert np.array_equal(file[500:2000], sound[500:2000])
        assert np.array_equal(file[len(sound) - 5 : len(sound) + 100], sound[-5:])
        assert len(file[len(sound) + 10 : len(sound) + 20]) == 0
        assert np.array_equal(np.concatenate(list(file.stretches())), sound)
    audio.write(tmp_path / "none.wav", iter([]), RATE)
    with audio.File(tmp_path / "none.wav") as file:
        assert len(file) == 0 and list(file.stretches()) == []
    with pytest.raises(audio.AudioError, match="cannot be read"):
        audio.File(tmp_path / "missing.wav")


@pytest.mark.parametrize("start", [0, 48_001, 5 << 32])
def test_a_wav_file_says_where_in_the_piece_it_begins(tmp_path, start):
    sound = np.random.default_rng(1).normal(0, 0.1, (1000, 2)).astype(np.float32)
    audio.write(tmp_path / "a.wav", iter([sound]), RATE, start=start)
    found = chunks(tmp_path / "a.wav")
    # EBU Tech 3285: 256 + 32 + 32 bytes of text, date and time, then the reference; before the sound itself.
    assert list(found).index("bext") < list(found).index("data")
    assert int.from_bytes(found["bext"][338:346], "little") == start
    assert found["bext"][256:288].rstrip(b"\0") == b"Nimble Load" and not found["bext"][:256].strip(b"\0")
    assert np.array_equal(soundfile.read(tmp_path / "a.wav", dtype="float32", always_2d=True)[0], sound)


def test_a_flac_file_has_no_place_for_that_and_a_file_is_the_same_each_time(tmp_path):
    sound = np.full((100, 2), 0.5, np.float32)
    audio.write(tmp_path / "a.flac", iter([sound]), RATE, "flac", start=7)
    assert soundfile.read(tmp_path / "a.flac", dtype="float32")[0][3, 0] == pytest.approx(0.5, abs=1e-6)
    for name in ("a.wav", "b.wav"):
        audio.write(tmp_path / name, iter([sound]), RATE, start=7)
    assert (tmp_path / "a.wav").read_bytes() == (tmp_path / "b.wav").read_bytes()


@pytest.mark.parametrize("form", ["WAV", "WAVEX", "W64", "RF64", "AIFF", "CAF", "FLAC"])
def test_upper_bits_are_those_that_the_library_reads(tmp_path, form):
    rng, path, tried = np.random.default_rng(1), tmp_path / "sound", 0
    for kind, end, channels in product(("PCM_S8", "PCM_U8", "PCM_16", "PCM_24", "PCM_32"), ("FILE", "BIG"), (1, 2, 5)):
        if not soundfile.check_format(form, kind, end):
            continue
        soundfile.write(path, rng.uniform(-1, 1, (1001, channels)), 8000, kind, end, form)
        with soundfile.SoundFile(path) as file:
            found = np.concatenate(list(audio.upper_bits(file, 300)))
        assert np.array_equal(found, soundfile.read(path, dtype="int16", always_2d=True)[0]), (kind, end, channels)
        tried += 1
    assert tried >= 6


@pytest.mark.parametrize("outside", [False, True])
def test_a_session_of_more_files_than_a_program_may_open_is_read(tmp_path, outside):
    names = [f"{k}.wav" for k in range(audio.MOST_OPEN + 20)]
    packed(tmp_path / "a.zip", *([] if outside else names), seconds=0.01)
    sounds = [np.full((480, 2), k / 1000, np.float32) for k in range(len(names))]
    if outside:
        for name, sound in zip(names, sounds, strict=True):
            soundfile.write(tmp_path / name, sound, RATE, "FLOAT")
    before = len(list(Path("/proc/self/fd").iterdir()))
    with audio.Sources(tmp_path / "a.zip") as sources:
        for _ in range(2):
            for name, sound in zip(names, sounds, strict=True):
                found = sources.sound(Part(0.0, 2.0, 0.0, name, outside), RATE, 0, 480)
                assert not outside or np.array_equal(found, sound)
        assert len(list(Path("/proc/self/fd").iterdir())) - before <= audio.MOST_OPEN + 2
    assert len(list(Path("/proc/self/fd").iterdir())) == before
