"""The timed loop: what it feeds, what it counts, and that its own overhead is small and taken off."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.probe.signal import RMS, chord, musical, released
from nimbleload.probe.timed import TimedLoop, _capture, overhead_ns, warm_up
from tests.helpers.run_house import load


def test_a_run_has_a_time_for_each_block_and_goes_on_where_it_ended():
    hosted = load("shoreline", gain=0)
    source = np.arange(1024, dtype=np.float32)[None, :].repeat(2, axis=0) * 1e-4
    loop = TimedLoop(hosted, source)
    assert len(loop.run(64, 3)) == 3
    assert hosted.inputs[0, :64] == pytest.approx(source[0, 128:192])
    loop.run(64, 1)
    assert hosted.inputs[0, :64] == pytest.approx(source[0, 192:256])
    loop.rewind()
    loop.run(64, 1)
    assert hosted.inputs[0, :64] == pytest.approx(source[0, :64])


def test_an_input_without_a_signal_is_silent_and_nothing_is_written_there_between_blocks():
    """A side-chain that nobody feeds: zeros of 4 KB in a row, written before each block, lowered the clock of a core by
    a seventh for a compressor (ZamComp, 1024 samples on: 1.15 times a loop in C; without them 1.02)."""
    hosted = load("shoreline", gain=0)
    loop = TimedLoop(hosted, np.ones((2, 1024), np.float32))
    loop.rows[:] = 0, -1
    hosted.inputs[:] = 7
    loop.refresh(64)
    assert not hosted.inputs[1].any()
    hosted.inputs[:] = 7
    loop.run(64, 2)
    loop.capture(64, 2)
    assert (hosted.inputs[0, :64] == 1).all() and (hosted.inputs[1] == 7).all()


def test_the_source_begins_again_when_no_whole_block_is_left():
    hosted = load("shoreline", gain=0)
    loop = TimedLoop(hosted, np.arange(100, dtype=np.float32)[None, :].repeat(2, axis=0))
    loop.run(64, 2)
    assert hosted.inputs[0, 0] == 0


def test_silent_blocks_are_silent_and_their_peaks_are_told():
    hosted = load("vault", seconds=0.1, partition=64, wet=1)
    loop = TimedLoop(hosted, np.ones((2, 4096), np.float32))
    loop.run(64, 20)
    peaks = loop.silent_peaks(64, 400)
    assert peaks[0] > 1e-3
    assert peaks[-1] == 0


def test_times_grow_with_the_work():
    # Not a figure, only an order: sixteen bands over 4096 samples against an empty function.
    times = TimedLoop(load("shoreline", bands=16), np.zeros((2, 8192), np.float32)).run(4096, 20)
    assert np.median(times) > 20 * overhead_ns(2000)


def test_the_signal_is_the_same_every_time_and_as_loud_as_music():
    one, other = musical(2, 48000), musical(2, 48000)
    assert np.array_equal(one, other)
    assert one.shape[1] % 8192 == 0
    assert np.sqrt(np.mean(one**2, axis=1)) == pytest.approx([RMS, RMS], rel=1e-3)
    assert not np.array_equal(one[0], one[1])
    assert np.abs(one).max() < 1.0


@pytest.mark.parametrize("voices", [1, 4, 7, 24, 60, 64, 85])
def test_a_chord_has_as_many_different_notes_as_voices(voices):
    notes = chord(voices)
    assert len({n.key for n in notes}) == voices
    assert all(0 <= n.key <= 127 and n.on for n in notes)
    assert [n.key for n in released(notes)] == [n.key for n in notes]
    assert not any(n.on for n in released(notes))


def test_a_part_of_a_sound_is_captured_by_what_was_compiled_ahead_of_time():
    """To compile anew takes seconds, in the midst of rendering."""
    warm_up()
    compiled = list(_capture.signatures)
    sound = musical(2, 48000)
    loop = TimedLoop(load("shoreline"), sound)
    loop.refresh(64)
    whole = loop.capture(64, 8, source=sound[:, :512])
    loop.refresh(64)
    assert np.array_equal(loop.capture(64, 4, source=sound[:, :256]), whole[:, :256])
    assert np.array_equal(loop.capture(64, 4, source=sound[:, 256:512].astype(np.float64)), whole[:, 256:])
    assert _capture.signatures == compiled
