"""What a plugin costs beside busy cores: whoever else takes from the cores takes from both ways alike."""

from __future__ import annotations

import os
from contextlib import nullcontext

import numpy as np
import pytest

from nimbleload.probe import neighbour
from nimbleload.probe.company import in_cycles
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Place, Request
from nimbleload.probe.neighbour import Around, find_around, times_as_long
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


class Pretended:
    """Neighbours who make a loop slower while they are there."""

    def __init__(self, loop, slower=None):
        self.loop, self.slower = loop, slower

    def __enter__(self):
        self.loop.beside = True
        self.loop.slower = self.slower() if self.slower is not None else self.loop.slower

    def __exit__(self, *_):
        self.loop.beside = False


@pytest.mark.parametrize("slower", [1.0, SLOWER])
@pytest.mark.parametrize("share", [0.0, 0.3, 0.6])
def test_others_on_the_cores_are_no_neighbours(share, slower):
    loop = Disturbed(share, slower)

    class Quiet:
        def is_good(self):
            return share < 0.5

    found = times_as_long(in_cycles(loop, neighbour.FRAMES, ()), Quiet(), Pretended(loop), OVERHEAD)
    assert found == pytest.approx(slower, rel=0.03)


def test_who_shares_a_core_for_a_while_is_no_neighbour_either(monkeypatch):
    """Here everything beside neighbours takes nearly twice as long at first: somebody has come to the other core."""
    loop = Disturbed(0.0)
    rests = []

    monkeypatch.setattr(neighbour.time, "sleep", rests.append)
    monkeypatch.setattr(neighbour.Pace, "is_good", lambda self: True)
    for goes, expected in ((3, SLOWER), (99, 1.8)):
        rests.clear()
        they = Pretended(loop, lambda goes=goes: SLOWER if len(rests) >= goes else 1.8)
        found = times_as_long(in_cycles(loop, neighbour.FRAMES, ()), Pace(), they, OVERHEAD)
        assert found == pytest.approx(expected, rel=0.03)
        assert len(rests) == neighbour.GOES - 1


def test_an_instrument_is_struck_anew_in_each_turn_and_begins_once(monkeypatch):
    loop, struck, filled = Disturbed(0.0), [], []

    def run(frames, blocks, notes=(), others=None):
        struck.append((blocks, notes))
        return Disturbed.run(loop, frames, blocks, notes)

    loop.run, loop.fill = run, lambda frames, notes: filled.append(notes) or notes
    monkeypatch.setattr(neighbour, "_Neighbours", lambda *_: nullcontext())
    monkeypatch.setattr(neighbour.Pace, "is_good", lambda self: True)
    found = find_around(None, loop, Pace(), chord(3), Place(1, (2,), (0,)), OVERHEAD)
    assert found == pytest.approx((1.0, 1.0, 1.0), abs=0.01)
    assert filled == [chord(3)]
    assert struck[0] == (96, chord(3)) and set(struck[1:]) == {(96, again(chord(3)))}


def test_other_cores_the_other_thread_and_a_slow_core_are_each_by_themselves(monkeypatch):
    """Here a plugin takes 1.1 times as long beside others, 1.6 beside the other thread of its core, 2.2 on a slow one;
    where it is no slower than alone, it is not told to be faster."""
    loop = Disturbed(0.0)
    by = {(0, 3): 1.1, (2,): 1.6, 5: 2.2}
    monkeypatch.setattr(neighbour, "_Neighbours", lambda _o, _l, _n, cores: Pretended(loop, lambda: by[tuple(cores)]))
    monkeypatch.setattr(neighbour, "_OnCore", lambda core: Pretended(loop, lambda: by[core]))
    monkeypatch.setattr(neighbour.Pace, "is_good", lambda self: True)
    monkeypatch.setattr(neighbour.time, "sleep", lambda _: None)
    place = Place(1, (2,), (0, 3), 5)
    assert find_around(None, loop, Pace(), (), place, OVERHEAD) == pytest.approx((1.1, 1.6, 2.2), rel=0.02)
    by |= {(0, 3): 0.9, (2,): 0.8}
    assert find_around(None, loop, Pace(), (), place, OVERHEAD)[:2] == (1.0, 1.0)


def test_without_another_core_nobody_is_slowed():
    loop = Disturbed(0.0)
    assert find_around(None, loop, None, (), Place(0), 0) == find_around(None, loop, None, (), None, 0) == Around()


@pytest.mark.skipif(len(os.sched_getaffinity(0)) < 2, reason="there is one core only")
def test_a_slow_core_is_tried_by_this_thread_once_it_is_quiet_and_left_again(monkeypatch):
    here, waited = os.sched_getaffinity(0), []

    class Waits:
        def learn(self, _):
            waited.append("learns")

        def wait(self):
            waited.append(os.sched_getaffinity(0))

    monkeypatch.setattr(neighbour, "Pace", Waits)
    slow = neighbour._OnCore(min(here))
    for _ in range(2):
        with slow:
            assert os.sched_getaffinity(0) == {min(here)}
        assert os.sched_getaffinity(0) == here
    assert waited == ["learns", {min(here)}, {min(here)}]


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
        found = find_around(second, loop, Pace(), (), Place(min(here), (), (max(here),)), overhead_ns())
    finally:
        os.sched_setaffinity(0, here)
    assert found == pytest.approx((1.0, 1.0, 1.0), abs=0.03)
    assert neighbours and not any(thread.is_alive() for of in neighbours for thread in of._threads)
