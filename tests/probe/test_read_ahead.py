"""Files that a rehearsal plays: to the sample, whenever they end, and told where they come too late."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from numba import njit

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.routing import build
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, survey
from nimbleload.probe import performance, rehearsal
from nimbleload.probe.messages import StageRequest
from nimbleload.probe.read_ahead import PIECE, ReadAhead, opened
from nimbleload.probe.stage import Stage, take
from tests.helpers import known
from tests.helpers.sessions import session, track, use
from tests.helpers.stems import RATE, noise

WIDEST = 8192


@njit
def _take(bus, rings, written, late, number, k, frames):
    take(bus, rings, written, late, number, k, frames)


def taken(ahead: ReadAhead, number: int, k: int, frames: int) -> np.ndarray:
    """What the players get of a ring in a block (frames, 2)."""
    bus = np.ones((2, WIDEST), np.float32)
    _take(bus, ahead.rings, ahead.written, ahead.late, number, k, frames)
    return bus[:, :frames].T


def played(ahead: ReadAhead, blocks: int, frames: int, number: int = 0, reads: bool = True) -> np.ndarray:
    """What the players get of a ring (n, 2), while the thread reads after each block."""
    found = []
    for k in range(blocks):
        while reads and ahead.read_one(k * frames):
            pass
        found.append(taken(ahead, number, k, frames))
    return np.concatenate(found)


def open_files() -> int:
    return sum(1 for _ in Path("/proc/self/fd").iterdir())


def file_of(path, sound, kind="WAV", subtype="FLOAT", rate=RATE):
    soundfile.write(path, sound, rate, format=kind, subtype=subtype)
    return str(path)


@pytest.mark.parametrize("frames", [64, 441, 2048, 8192])
@pytest.mark.parametrize("second", [0.0, 0.75, 1.9, 30.0])
def test_what_is_played_is_the_file_from_where_the_piece_is_and_again_when_it_ends(tmp_path, frames, second):
    sound = noise(1.5)
    path = file_of(tmp_path / "a.wav", sound)
    with opened(path, 0.5, second, RATE) as file:
        ahead = ReadAhead({3: file}, 5, RATE, frames)
        assert ahead.of.tolist() == [-1, -1, -1, 0, -1]
        found = played(ahead, 4 * RATE // frames, frames)
    # The file begins half a second into the piece; before, and when it is over, it is played from its beginning.
    first = round((second - 0.5) * RATE) if 0.5 <= second < 2 else 0
    wanted = np.resize(np.roll(sound, -first, axis=0), found.shape)
    assert (found == wanted).all() and not ahead.late.any() and not ahead.trouble


@pytest.mark.parametrize(("seconds", "channels"), [(0.05, 2), (1.0, 1), (1.0, 6)])
def test_short_ones_one_channel_and_many(tmp_path, seconds, channels):
    sound = noise(seconds, channels)
    with opened(file_of(tmp_path / "a.wav", sound), 0.0, 0.0, RATE) as file:
        found = played(ReadAhead({0: file}, 1, RATE, 256), 300, 256)
    heard = sound[:, :2] if channels > 1 else np.repeat(sound, 2, axis=1)
    assert (found == np.resize(heard, found.shape)).all()


def test_what_has_not_been_read_in_time_is_silence_and_counted_and_it_goes_on_where_it_belongs(tmp_path):
    sound = noise(3.0)
    with opened(file_of(tmp_path / "a.wav", sound), 0.0, 0.0, RATE) as file:
        ahead = ReadAhead({0: file}, 1, RATE, 3000)
        while ahead.read_one(0):
            pass
        there, over = divmod(int(ahead.written[0]), 3000)
        assert over  # a part of the next block is there, too, which does not make it one
        found = played(ahead, there + 5, 3000, reads=False)
        assert (found[: there * 3000] == sound[: there * 3000]).all()
        assert not found[there * 3000 :].any() and ahead.late.tolist() == [5]
        while ahead.read_one((there + 5) * 3000):
            pass
        assert (taken(ahead, 0, there + 5, 3000) == sound[(there + 5) * 3000 : (there + 6) * 3000]).all()


def test_the_one_that_is_the_least_ahead_is_read_first_and_nothing_that_is_still_to_be_played_is_overwritten(tmp_path):
    files = [opened(file_of(tmp_path / f"{k}.wav", noise(3.0, seed=k)), 0.0, 0.0, RATE) for k in range(3)]
    ahead = ReadAhead(dict(enumerate(files)), 3, RATE, 256)
    length = ahead.rings.shape[2]
    assert length >= RATE // 2 and length % PIECE == 0
    for _ in range(3):
        assert ahead.read_one(0)
    assert ahead.written.tolist() == [PIECE] * 3
    while ahead.read_one(0):
        pass
    assert ahead.written.tolist() == [length] * 3
    assert not ahead.read_one(PIECE - 1) and ahead.read_one(PIECE)
    for file in files:
        file.close()


def test_how_much_was_read_is_told_as_it_lies_on_the_disk(tmp_path):
    wav, flac = file_of(tmp_path / "a.wav", noise(2.0)), file_of(tmp_path / "a.flac", noise(2.0), "FLAC", "PCM_24")
    for path in (wav, flac):
        with opened(path, 0.0, 0.0, RATE) as file:
            ahead = ReadAhead({0: file}, 1, RATE, 256)
            ahead.read_one(0)
            assert ahead.bytes == pytest.approx(Path(path).stat().st_size * PIECE / (2 * RATE), rel=1e-3)


def test_a_file_that_is_cut_while_it_is_played_is_silent_from_there_and_said(tmp_path):
    path = file_of(tmp_path / "a.wav", noise(4.0))
    with opened(path, 0.0, 0.0, RATE) as file:
        ahead = ReadAhead({0: file}, 1, RATE, 256)
        assert ahead.read_one(0)
        os.truncate(path, 100)
        found = played(ahead, 400, 256)
    assert list(ahead.trouble) == [0] and not found[-256:].any()


@pytest.mark.parametrize(("kind", "words"), [
    ("missing", "No such file"), ("no audio", "rror"), ("other rate", "44100 Hz, the session 48000"),
    ("empty", "nothing in it"),
])  # fmt: skip
def test_what_cannot_be_played_says_why(tmp_path, kind, words):
    path = tmp_path / "a.wav"
    if kind == "no audio":
        path.write_text("no")
    elif kind != "missing":
        file_of(path, noise(1.0 if kind == "other rate" else 0.0), rate=44100 if kind == "other rate" else RATE)
    before = open_files()
    with pytest.raises((OSError, ValueError, soundfile.LibsndfileError), match=words):
        opened(str(path), 0.0, 0.0, RATE)
    assert open_files() == before


def test_on_the_stage_a_strip_plays_its_file_in_place_of_the_test_signal(tmp_path):
    of = session(track("a"), track("b", output=None), Strip("main", "Main", "main"))
    sound = noise(2.0)
    with opened(file_of(tmp_path / "a.wav", sound), 0.0, 0.0, RATE) as file:
        ahead = ReadAhead({0: file}, 3, RATE, 512)
        source = np.full((2, 4096), 0.25, np.float32)
        stage = Stage(
            build(of), [[], [], []], ((0, 2),), np.array([True, True, False]), np.arange(3.0), source, 512, ahead
        )  # fmt: skip
        made, _ = stage.perform(RATE, 80, (0,), lambda core: False, lambda so_far: True)
    assert made.done == 80 and ahead.late.tolist() == [0]
    heard = stage._buses[2].T
    assert (heard == sound[79 * 512 : 80 * 512]).all()
    assert (stage._buses[1] == 0.25).all()
    assert ahead.bytes > 0 and ahead.seconds > 0


def a_request(of, files):
    """What is asked for of a session that sounds everywhere."""
    count = len(of.strips)
    return StageRequest(of, (True,) * count, (0,) * count, (0.0,) * count, 1.0, 256, (0,), 1.0, {}, {}, files=files)


def test_what_follows_a_frozen_instrument_hears_what_was_frozen():
    def synth(name, frozen):
        clips = (Clip(0, 10, "notes", voices=((0.0, 2),)),)
        return msgspec.structs.replace(
            track(name, "p"), instrument=use("synth", f"{name}/synth", voices=2), clips=clips, frozen_through=frozen
        )

    of = session(synth("live", None), synth("instrument", -1), synth("all", 0), track("audio"))
    assert performance.fed(a_request(of, {})).tolist() == [False, True, True, True, False]


def test_files_of_tracks_that_are_silent_at_the_moment_stay_closed(tmp_path):
    path = file_of(tmp_path / "a.wav", noise(2.0))
    of = session(track("a"), track("b"), track("c"))
    files = {"a": (path, 0.0), "b": (path, 0.0), "c": (str(tmp_path / "gone.wav"), 0.0)}
    request = msgspec.structs.replace(a_request(of, files), sounding=(True, False, True, True))
    found, unread = performance.open_files(request)
    assert list(found) == [0] and found[0].tell() == RATE
    assert list(unread) == ["c"] and unread["c"].startswith("gone.wav: ")
    found[0].close()


def test_a_rehearsal_beside_strangers_plays_files_and_tells_what_that_took(tmp_path, monkeypatch):
    """With a plugin of a standard in it nothing but that plugin can be read any more."""
    plugin = known.installed(tmp_path, "clap", monkeypatch)
    of = session(
        *(msgspec.structs.replace(track(name), inserts=(msgspec.structs.replace(plugin.use(), id=name),))
          for name in ("a", "b", "c"))
    )  # fmt: skip
    plan = Plan(tuple(Decision("freeze", name) for name in "abc"))
    found = survey(of, plan, {}, Machine(1), 256)
    gone = str(tmp_path / "gone.wav")
    files = {"a": (file_of(tmp_path / "a.wav", noise(12.0)), 0.0), "b": (gone, 0.0)}
    *_, last = rehearsal.run(found, instant(found, 5.0), 1.0, files=files)
    told = last.rehearsal.streamed
    assert (told.tracks, told.without, list(told.unread)) == (("a",), ("c",), ["b"])
    # Two channels of four bytes each; what had been read ahead is not read again.
    assert 0.4 * 8 * RATE < told.rate < 1.6 * 8 * RATE and 0 < told.share < 0.5
