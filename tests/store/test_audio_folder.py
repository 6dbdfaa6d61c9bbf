"""Folders of audio: what sounds where, against sound that was made for it; and whatever else lies in folders."""

from __future__ import annotations

import os
import shutil

import numpy as np
import pytest
import soundfile

from nimbleload.store import audio, audio_folder
from nimbleload.store.found import NothingFoundError, StoppedError

RATE = 8000


def stem(path, *loud, seconds=6.0, rate=RATE, level=0.1, channels=2, **more):
    """A file that is quiet (−66 dBFS) but for some stretches."""
    rng = np.random.default_rng(1)
    made = rng.uniform(-1, 1, (int(seconds * rate), channels)) * 0.0005
    for start, end in loud:
        a, b = int(start * rate), int(end * rate)
        made[a:b, 0] = rng.uniform(-1, 1, b - a) * level
    path.parent.mkdir(parents=True, exist_ok=True)
    soundfile.write(path, made, rate, **more)


def spans(session, name):
    strip = next(strip for strip in session.strips if strip.name == name)
    return [(clip.start, clip.end) for clip in strip.clips]


def test_it_sounds_where_it_is_loud_and_short_gaps_are_closed(tmp_path):
    stem(tmp_path / "a.wav", (1, 2), (2.3, 3), (4, 5))
    made = audio_folder.read(tmp_path).session
    assert np.allclose(spans(made, "a"), [(1, 3), (4, 5)], atol=0.011)
    clip = made.strips[0].clips[1]
    assert clip.offset == clip.start and clip.file == str(tmp_path / "a.wav") and clip.rate == RATE
    assert made.length == 6 and made.rate == RATE


def test_tracks_are_as_wide_as_their_files(tmp_path, monkeypatch):
    for channels in (1, 2, 6):
        stem(tmp_path / f"{channels}.wav", (0, 1), channels=channels)
    assert [strip.channels for strip in audio_folder.read(tmp_path).session.strips] == [1, 2, 6, 2]
    monkeypatch.setattr(audio_folder, "LONGEST_READ", 1.0)
    assert [strip.channels for strip in audio_folder.read(tmp_path).session.strips] == [1, 2, 6, 2]


@pytest.mark.parametrize("level, sounds", [(0.00105, True), (0.00095, False)])
def test_sixty_decibels_below_full_is_the_border(tmp_path, level, sounds):
    made = np.zeros(RATE)
    made[RATE // 2] = level
    soundfile.write(tmp_path / "a.wav", made, RATE, subtype="FLOAT")
    assert bool(audio_folder.read(tmp_path).session.strips[0].clips) == sounds


def test_stretches_against_a_plain_loop():
    rng = np.random.default_rng(3)
    for _ in range(200):
        loud = rng.random(rng.integers(1, 300)) < rng.random()
        found = audio_folder.stretches(loud, 0.05, len(loud) * 0.05)
        expected = []
        for k, is_loud in enumerate(loud.tolist()):
            if is_loud and expected and k - expected[-1][1] < 10:
                expected[-1][1] = k + 1
            elif is_loud:
                expected.append([k, k + 1])
        assert np.allclose(np.array(found).reshape(-1, 2), np.array(expected).reshape(-1, 2) * 0.05)


def test_folders_are_buses_in_their_own_order(tmp_path):
    for name in ("z.wav", "Strings/b.flac", "Strings/a.wav", "Strings/Low/c.ogg", ".hidden/d.wav"):
        stem(tmp_path / name, (0, 1))
    made = audio_folder.read(tmp_path)
    feeds = {strip.name: strip.output for strip in made.session.strips}
    ids = {strip.name: strip.id for strip in made.session.strips}
    assert list(feeds) == ["z", "a", "b", "c", "Strings", "Low", "Main"]
    assert feeds["a"] == feeds["b"] == feeds["Low"] == ids["Strings"] and feeds["c"] == ids["Low"]
    assert feeds["z"] == feeds["Strings"] == ids["Main"]
    assert "2 folders, as buses." in made.report.understood
    assert made.report.understood[0] == "4 audio files, the longest of 0:06: a track each."


def test_what_is_no_audio_is_said_and_the_rest_taken(tmp_path):
    stem(tmp_path / "good.wav", (1, 2))
    stem(tmp_path / "other.wav", (1, 2), rate=11025)
    stem(tmp_path / "silent.wav")
    (tmp_path / "empty.wav").write_bytes(b"")
    (tmp_path / "words.flac").write_text("this is no sound")
    soundfile.write(tmp_path / "nothing.wav", np.zeros((0, 2)), RATE)
    (tmp_path / "mix.txt").write_text("x")
    half = (tmp_path / "good.wav").read_bytes()
    (tmp_path / "cut.wav").write_bytes(half[: len(half) // 2])
    made = audio_folder.read(tmp_path)
    said = "\n".join(made.report.left_out)
    for words in (
        "empty.wav is no audio", "words.flac is no audio", "nothing.wav is no audio that can be read: it is empty",
        "other.wav was recorded at 11025 Hz", "1 file is silent", "silent.wav", "1 file of other",
    ):  # fmt: skip
        assert words in said, words
    assert [strip.name for strip in made.session.strips] == ["cut", "good", "other", "silent", "Main"]
    assert spans(made.session, "cut")[0][1] <= 3


def test_odd_sound_does_not_stop_it(tmp_path):
    odd = np.zeros(RATE, np.float32)
    odd[100:200], odd[300], odd[4000] = np.nan, np.inf, 5.0
    soundfile.write(tmp_path / "odd.wav", odd, RATE, subtype="FLOAT")
    soundfile.write(tmp_path / "many.wav", np.full((RATE, 12), 0.5), RATE)
    soundfile.write(tmp_path / "short.wav", np.ones(3) * 0.5, RATE)
    made = audio_folder.read(tmp_path).session
    assert len(spans(made, "odd")) >= 1 and len(spans(made, "many")) == 1
    assert spans(made, "short") == [(0, 3 / RATE)]


def test_what_is_very_long_sounds_all_through(tmp_path, monkeypatch):
    stem(tmp_path / "a.wav", (1, 2))
    monkeypatch.setattr(audio_folder, "LONGEST_READ", 5.0)
    made = audio_folder.read(tmp_path)
    assert spans(made.session, "a") == [(0, 6)]
    assert "taken as sounding all through" in made.report.left_out[0]


def test_more_files_than_are_taken_are_said(tmp_path, monkeypatch):
    for k in range(5):
        stem(tmp_path / f"{k}.wav", (0, 1), seconds=1)
    monkeypatch.setattr(audio_folder, "MOST_FILES", 3)
    made = audio_folder.read(tmp_path)
    assert len(made.session.strips) == 4 and "2 more audio files: at most 3" in made.report.left_out[-1]


def test_nothing_in_it_is_a_sentence(tmp_path):
    with pytest.raises(NothingFoundError, match="holds no audio files"):
        audio_folder.read(tmp_path)
    (tmp_path / "a.wav").write_text("x")
    with pytest.raises(NothingFoundError, match="none of 1 files could be read"):
        audio_folder.read(tmp_path)


def test_it_tells_how_far_it_is_and_can_be_stopped(tmp_path):
    for k in range(3):
        stem(tmp_path / f"{k}.wav", (0, 1), seconds=9)
    heard = []

    def told(share, name):
        heard.append((share, name))
        return len(heard) == 2  # whichever file that is: two are read at once

    with pytest.raises(StoppedError) as stopped:
        audio_folder.read(tmp_path, told)
    assert f"stopped at {heard[1][1]}." in str(stopped.value)
    shares = [share for share, _ in heard]
    assert len(heard) == 2 and 0 < shares[0] < shares[1] < 1


def test_how_far_it_is_never_falls_though_a_file_ends_within_a_piece_of_its_reading(tmp_path, monkeypatch):
    monkeypatch.setattr(audio_folder.os, "sched_getaffinity", lambda _who: {0})  # one after another
    for k in range(3):
        stem(tmp_path / f"{k}.wav", (0, 1), seconds=9)
    shares = []
    audio_folder.read(tmp_path, lambda share, _name: shares.append(share))
    assert shares == sorted(shares) and shares[-1] == 1.0


def broadcast(path, begins, *loud, seconds=6.0, rate=RATE):
    """The same file with a broadcast extension that says at which second it begins; by hand, after EBU Tech 3285."""
    stem(path, *loud, seconds=seconds, rate=rate)
    content, samples = path.read_bytes(), round(begins * rate)
    body = b"".join((
        b"Take 4".ljust(256, b"\0"), b"A recorder".ljust(32, b"\0"), b"".ljust(32, b"\0"), b"2026-11-27", b"10-30-00",
        (samples % 2**32).to_bytes(4, "little"), (samples // 2**32).to_bytes(4, "little"), (1).to_bytes(2, "little"),
        bytes(254),
    ))  # fmt: skip
    assert len(body) == 602
    chunk = b"bext" + len(body).to_bytes(4, "little") + body
    path.write_bytes(b"RIFF" + (len(content) - 8 + len(chunk)).to_bytes(4, "little") + b"WAVE" + chunk + content[12:])


def test_files_begin_where_their_time_stamps_say(tmp_path):
    broadcast(tmp_path / "a.wav", 0.0, (1, 2))
    broadcast(tmp_path / "b.wav", 30.0, (1, 2))
    broadcast(tmp_path / "c.wav", 12.5, (0.5, 2), rate=2 * RATE)
    stem(tmp_path / "d.wav", (3, 4))
    made = audio_folder.read(tmp_path)
    expected = {"a": (1, 2), "b": (31, 32), "c": (13, 14.5), "d": (3, 4)}
    for name, span in expected.items():
        assert np.allclose(spans(made.session, name), [span], atol=0.011), name
    assert made.session.length == 36
    # What is played of it is where it was in the file.
    assert np.isclose(made.session.strips[1].clips[0].offset, 1, atol=0.011)
    assert "2 files placed by the time stamps that they carry." in made.report.understood
    assert "1 file without a time stamp: begun with the piece." in made.report.left_out


def test_a_time_of_day_is_no_place_in_a_piece(tmp_path):
    broadcast(tmp_path / "a.wav", 14 * 3600 + 23 * 60 + 10, (1, 2))
    broadcast(tmp_path / "b.wav", 14 * 3600 + 25 * 60, (1, 2))
    made = audio_folder.read(tmp_path)
    assert np.allclose([spans(made.session, "a")[0][0], spans(made.session, "b")[0][0]], [1, 111], atol=0.011)
    assert "The earliest time stamp is 14:23:10: the piece begins there." in made.report.left_out


@pytest.mark.parametrize("begins", [0.0, 3600.0, 80000.0])
def test_whole_stems_of_one_time_begin_together(tmp_path, begins):
    broadcast(tmp_path / "a.wav", begins, (1, 2))
    broadcast(tmp_path / "b.wav", begins, (3, 4))
    made = audio_folder.read(tmp_path)
    assert np.allclose([spans(made.session, "a")[0], spans(made.session, "b")[0]], [(1, 2), (3, 4)], atol=0.011)
    assert made.session.length == 6 and not made.report.left_out


def test_stamps_of_several_days_place_nothing(tmp_path):
    broadcast(tmp_path / "a.wav", 100.0, (1, 2))
    broadcast(tmp_path / "b.wav", 20 * 3600.0, (1, 2))
    made = audio_folder.read(tmp_path)
    assert made.session.length == 6 and spans(made.session, "a") == spans(made.session, "b")
    assert "Their time stamps lie 20 hours apart: all files begin together." in made.report.left_out


def test_one_file_alone_lies_where_it_was_in_its_piece(tmp_path):
    broadcast(tmp_path / "a.wav", 90.0, (1, 2))
    made = audio_folder.read_files(tmp_path, [tmp_path / "a.wav"]).session
    assert np.allclose(spans(made, "a"), [(91, 92)], atol=0.011) and made.length == 96
    broadcast(tmp_path / "b.wav", 50000.0, (1, 2))
    assert audio_folder.read_files(tmp_path, [tmp_path / "b.wav"]).session.length == 6


def test_what_was_rendered_here_comes_back_to_its_place(tmp_path):
    sound = np.full((RATE, 2), 0.3, np.float32)
    for name, start in (("a", 0), ("b", 5 * RATE)):
        audio.write(tmp_path / f"{name}.wav", iter([sound]), RATE, start=start)
    made = audio_folder.read(tmp_path).session
    assert spans(made, "a") == [(0, 1)] and spans(made, "b") == [(5, 6)]


@pytest.mark.parametrize("name", [b"l\xe9.wav", b"a\x01.wav"])
def test_what_no_session_could_name_is_left_out_with_a_sentence(tmp_path, name):
    stem(tmp_path / "a.wav", (1, 2))
    shutil.copy(tmp_path / "a.wav", os.fsdecode(os.fsencode(tmp_path) + b"/" + name))
    found = audio_folder.read(tmp_path)
    assert [strip.name for strip in found.session.strips] == ["a", "Main"]
    (said,) = found.report.left_out
    assert "?" in said and "was left out: its name, or that of a folder in which it lies, is not in UTF-8" in said
    assert said.isprintable()
