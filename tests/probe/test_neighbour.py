"""What a plugin costs beside busy cores: whoever else takes from the cores takes from both ways alike."""

from __future__ import annotations

import os
from contextlib import nullcontext

import numpy as np
import pytest

from nimbleload.probe import neighbour
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Request
from nimbleload.probe.neighbour import find_slowdown
from nimbleload.probe.pace import Pace
from nimbleload.probe.signal import again, chord, musical
from nimbleload.probe.timed import TimedLoop, overhead_ns
from tests.helpers import known

OVERHEAD, OWN = 100, 10_000
SLOWER = 1.3


class Disturbed:
    """A loop whose blocks take OWN, a burst in every eighth, SLOWER times as long beside neighbours; and half as long
    again in so many of all runs, whether they are there or not."""

    source = np.zeros((1, 16), np.float32)

    def __init__(self, share, slower=SLOWER, seed=1):
        self.share, self.slower, self.beside = share, slower, False
        self.random = np.random.default_rng(seed)

    def fill(self, frames, notes=()):
        return notes

    def rewind(self):
        pass

    def run(self, frames, blocks, notes=(), others=None):
        times = np.full(blocks, float(OWN))
        times[::8] *= 5
        times *= self.slower if self.beside else 1
        times *= 1.5 if self.random.random() < self.share else 1
        return (times * (1 + self.random.exponential(0.002, blocks)) + OVERHEAD).astype(np.int64)


@pytest.mark.parametrize("slower", [1.0, SLOWER])
@pytest.mark.parametrize("share", [0.0, 0.3, 0.6])
def test_others_on_the_cores_are_no_neighbours(share, slower, monkeypatch):
    loop = Disturbed(share, slower)

    class Pretended:
        def __init__(self, *_):
            pass

        def __enter__(self):
            loop.beside = True

        def __exit__(self, *_):
            loop.beside = False

    class Quiet:
        def is_good(self):
            return share < 0.5

    monkeypatch.setattr(neighbour, "_Neighbours", Pretended)
    found = find_slowdown(None, loop, Quiet(), (), (0,), OVERHEAD)
    assert found == pytest.approx(slower, rel=0.03)


def test_who_shares_a_core_for_a_while_is_no_neighbour_either(monkeypatch):
    """Here everything beside neighbours takes nearly twice as long at first: somebody has come to the other core."""
    loop = Disturbed(0.0)
    rests, come = [], 0

    class Pretended:
        def __init__(self, *_):
            pass

        def __enter__(self):
            loop.beside, loop.slower = True, SLOWER if len(rests) >= come else 1.8

        def __exit__(self, *_):
            loop.beside = False

    monkeypatch.setattr(neighbour, "_Neighbours", Pretended)
    monkeypatch.setattr(neighbour.time, "sleep", rests.append)
    monkeypatch.setattr(neighbour.Pace, "is_good", lambda self: True)
    for goes, expected in ((3, SLOWER), (99, 1.8)):
        rests.clear()
        come = goes
        assert find_slowdown(None, loop, Pace(), (), (0,), OVERHEAD) == pytest.approx(expected, rel=0.03)
        assert len(rests) == neighbour.GOES - 1


def test_an_instrument_is_struck_anew_in_each_turn_and_begins_once(monkeypatch):
    loop, struck, filled = Disturbed(0.0), [], []

    def run(frames, blocks, notes=(), others=None):
        struck.append((blocks, notes))
        return Disturbed.run(loop, frames, blocks, notes)

    loop.run, loop.fill = run, lambda frames, notes: filled.append(notes) or notes
    monkeypatch.setattr(neighbour, "_Neighbours", lambda *_: nullcontext())
    monkeypatch.setattr(neighbour.Pace, "is_good", lambda self: True)
    assert find_slowdown(None, loop, Pace(), chord(3), (0,), OVERHEAD) == pytest.approx(1.0, abs=0.01)
    assert filled == [chord(3)]
    assert struck[0] == (96, chord(3)) and set(struck[1:]) == {(96, again(chord(3)))}


def test_without_another_core_nobody_is_slowed():
    assert find_slowdown(None, None, None, (), (), 0) == 1.0


@pytest.mark.skipif(len(os.sched_getaffinity(0)) < 2, reason="there is one core only")
def test_a_plugin_that_waits_for_the_clock_is_not_slowed_and_the_neighbours_end(tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, "clap", monkeypatch)
    first, second = (load(Request(plugin.use(), 48000, (256,), str(plugin.path))) for _ in range(2))
    loop = TimedLoop(first, musical(1, 48000, 1.0))
    here = os.sched_getaffinity(0)
    neighbours = []
    make = neighbour._Neighbours.__init__

    def seen(self, *more):
        make(self, *more)
        neighbours.append(self)

    monkeypatch.setattr(neighbour._Neighbours, "__init__", seen)
    try:
        os.sched_setaffinity(0, {min(here)})
        found = find_slowdown(second, loop, Pace(), (), (max(here),), overhead_ns())
    finally:
        os.sched_setaffinity(0, here)
    assert found == pytest.approx(1.0, abs=0.03)
    assert neighbours and not any(thread.is_alive() for of in neighbours for thread in of._threads)
