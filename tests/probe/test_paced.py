"""What a plugin takes when it is called once a deadline, against a plugin that minds by a known time."""

from __future__ import annotations

import os
import platform
import re

import numpy as np
import pytest
from numba import njit

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.card import card_sentences
from nimbleload.native.witness import COLUMNS
from nimbleload.probe import paced, session_run
from nimbleload.probe.effort import PATIENT_SECONDS, Effort
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Request
from nimbleload.probe.paced import CYCLES, FEWEST, LEAST_KNOWN, MOST_CYCLES, PACED_SIZES, Turns, both, find_paced
from nimbleload.probe.signal import CHORD_CYCLE, chord, musical
from nimbleload.probe.timed import TimedLoop, overhead_ns
from tests.helpers import known
from tests.helpers.sessions import session


def own(size: int) -> float:
    """What a usual block takes, with its part of the bursts."""
    return known.CALL + known.SAMPLE * size + known.BURST / known.PERIOD


def measured(plugin: known.Known, seconds: float = 0.01):
    of = session(Strip("a", "a", inserts=(plugin.use(),), clips=(Clip(0.0, 10.0),), output="main"))
    *_, last = session_run.run(session_run.jobs(of, {}, PACED_SIZES), {}, effort=Effort(2, seconds, rounds=1))
    assert last.card.failure is None
    return of, last.card


def test_a_plugin_that_is_dearer_after_a_while_is_so_in_the_load_and_not_in_its_cells(tmp_path, monkeypatch):
    # What others disturb is measured again.
    _, plain = measured(known.installed(tmp_path / "plain", "clap", monkeypatch), PATIENT_SECONDS)
    of, card = measured(known.installed(tmp_path, "clap", monkeypatch, "COLD"), PATIENT_SECONDS)
    assert [each.buffer for each in card.paced] == list(PACED_SIZES)
    for each, usual in zip(card.paced, plain.paced, strict=True):
        assert each.row == pytest.approx(own(each.buffer), rel=0.05, abs=1e-6)
        # The other one waits for the clock: what is left is the beginning of its code, and the lines that it reads and
        # writes. Of those others take the more the more they share the core.
        assert abs(usual.paced - usual.row) < 10e-6
        assert each.paced - each.row == pytest.approx(known.COLD + usual.paced - usual.row, rel=0.04)
        cell = card.cell(48000, each.buffer, "sounding")
        assert cell.sequence_ns().mean() / 1e9 < own(each.buffer) + known.COLD / 3
        here = instant(survey(of, Plan(), {card.key: card}, Machine(1), each.buffer))
        block = each.buffer / 48000
        assert here.parts.cold * block == pytest.approx(known.COLD, rel=0.1)
        assert here.parts.own * block < own(each.buffer) + known.COLD / 3
        # What it would be on another computer is not known: there it counts with its own time.
        far = instant(survey(of, Plan(), {card.key: card}, Machine(1, speed=2.0, measured_cores=1), each.buffer))
        assert far.parts.cold == 0
    said = next(words for words in card_sentences(card, 48000, 64) if words.startswith("Called once a deadline"))
    assert "at 64 samples and" in said


@pytest.mark.skipif(platform.machine() != "x86_64", reason="other processors have other vectors")
def test_what_keeps_vectors_awake_is_compiled_to_vectors(monkeypatch):
    """Where it was not, whoever was called paid for waking them: a saturator half as much again at 64 samples."""
    if "avx2" not in os.environ.get("NUMBA_CPU_FEATURES", ""):
        pytest.skip("this processor has no vectors of 256 bits")
    anew = njit(nogil=True)(paced._once_each.py_func)
    monkeypatch.setitem(anew.py_func.__globals__, "keep_awake", njit(nogil=True)(paced.keep_awake.py_func))
    sound, told = np.zeros((1, 16), np.float32), np.zeros((0, COLUMNS), np.int64)
    whole, values = np.zeros(1, np.int64), np.ones(paced.VALUES, np.int32)
    clock = np.zeros(2, np.int64)
    anew(0, 0, 0, 0, sound, whole, 0, sound, 16, 0, whole[:0], values, told, clock.ctypes.data)
    (code,) = anew.inspect_asm().values()
    assert re.search(r"v(paddd|psubd)\b.*%ymm", code)
    assert "%zmm" not in code


def test_an_instrument_that_is_struck_is_struck_both_ways(tmp_path, monkeypatch):
    """Its note is as far in a row as once a deadline: what it takes while it is struck is in both."""
    built = known.installed(tmp_path, "clap", monkeypatch, "DECAYS")
    use = built.use(voices=1)
    request = Request(use, 48000, (512,), str(built.path))
    hosted = load(request)
    loop = TimedLoop(hosted, musical(len(hosted.inputs), 48000))
    found = find_paced(hosted, loop, chord(1), 48000, 512, overhead_ns(), lambda: None)
    struck = known.STRUCK * np.ceil(known.STRUCK_SAMPLES / 512) / (CHORD_CYCLE // 512)
    for each in (found.row, found.paced):
        assert each == pytest.approx(own(512) + struck, rel=0.1)


class Shared:
    """Cycles of 96 places played both ways: 20 µs, every 16th 60, and once a deadline 3 more. In a share of the blocks
    another thread takes its part of the units and doubles what they take; in some the clock is low; some looks are
    missing."""

    ROW = np.where(np.arange(96) % 16 == 3, 60_000, 20_000)

    def __init__(self, share, low=0.0, cycles=6, seed=2):
        rng, shape = np.random.default_rng(seed), (2, cycles, 96)
        busy, lowered, unheard = (rng.random(shape) < part for part in (share, low, 0.03))
        own = np.stack((self.ROW, self.ROW + 3000))[:, None, :]
        clock = np.where(lowered, 1.15, 1.0)
        self.times = (own * clock * np.where(busy, 2.0, 1.0) + rng.integers(0, 100, shape)).astype(np.int64)
        told = np.stack((1000 * clock, 1500 * clock * np.where(busy, 1.7, 1.0)), axis=-1)
        self.told = np.where(unheard[..., None], 0, told).astype(np.int64)

    def found(self):
        return both(self.times, self.told, 1.5)


@pytest.mark.parametrize(("share", "low"), [(0.0, 0.0), (0.4, 0.0), (0.6, 0.0), (0.0, 0.4), (0.4, 0.3)])
def test_both_ways_are_known_from_blocks_that_nobody_shared(share, low):
    found = Shared(share, low).found()
    assert found.row == pytest.approx(Shared.ROW.mean(), rel=0.04)
    assert found.paced - found.row == pytest.approx(3000, rel=0.15)
    assert (found.shared, found.known >= LEAST_KNOWN) == (1.0, True)


def test_where_others_shared_the_core_all_the_while_it_says_so():
    """They cannot be heard from these blocks alone: it is known what the units take at best on this core."""
    found = Shared(1.0).found()
    assert found.known == 0 and found.shared == pytest.approx(1.7, rel=0.01)
    assert found.row == pytest.approx(2 * Shared.ROW.mean(), rel=0.01)


def test_what_is_not_known_of_a_cycle_counts_in_it_too():
    """A note is struck in its first quarter; in its second half others shared the core each time, and in some more."""
    made = Shared(0.3)
    own = np.where(np.arange(96) < 24, 90_000, 20_000)
    made.times = made.times * (own / Shared.ROW)
    alone = made.told[..., 1] < 2 * made.told[..., 0]
    late = np.arange(96) >= 48
    made.times = np.where(late & alone, 2, 1) * made.times
    made.told[..., 1] = np.where(late & alone, 1.7, 1) * made.told[..., 1]
    found = made.found()
    assert LEAST_KNOWN < found.known <= 0.5
    assert found.row == pytest.approx(own.mean(), rel=0.04)


@pytest.mark.parametrize("share", [0.0, 0.6, 1.0])
def test_blocks_that_something_held_up_are_none_of_the_plugins(share):
    """One in twenty is away for 4 ms, and behind it the core is as free as ever."""
    made = Shared(share)
    made.times[np.random.default_rng(5).random(made.times.shape) < 0.05] += 4_000_000
    found = made.found()
    assert found.row == pytest.approx((2 if share == 1 else 1) * Shared.ROW.mean(), rel=0.04)
    assert found.paced / found.row == pytest.approx(1 + 3000 / Shared.ROW.mean(), rel=0.02)


@pytest.mark.parametrize(("share", "likely"), [(0.0, (1.0, 1.0)), (0.5, (0.98, 1.0)), (0.99, (0.0, 0.1))])
def test_how_much_would_be_known_after_more_cycles_is_told(share, likely):
    assert likely[0] <= Shared(share, cycles=3).found().likely <= likely[1]


@pytest.mark.parametrize(("spread", "cycles"), [(0, 1), (2000, 1), (2000, 4)])
def test_how_well_known_it_is_what_a_block_takes_more_goes_by_how_places_differ(spread, cycles):
    """A closed form: one half of the places takes so much more than the other (ns)."""
    made = Shared(0.0, cycles=cycles)
    made.times = (np.stack((Shared.ROW, Shared.ROW + 3000))[:, None, :] * np.ones((2, cycles, 96))).astype(np.int64)
    made.times[1] += spread * (np.arange(96) % 2)
    made.told = np.broadcast_to([1000, 1500], made.told.shape)
    assert made.found().error == pytest.approx(spread / 2 / np.sqrt(96))


@pytest.mark.parametrize(
    ("share", "notes", "drift", "spread", "cycles"),
    [
        (0.0, 0, 0.0, 0, FEWEST), (0.0, 1, 0.0, 0, FEWEST), (0.0, 0, 0.0, 4000, FEWEST),
        (0.0, 0, 0.0, 20000, CYCLES),  # what a block takes more is not known well yet
        (1.0, 0, 0.01, 0, CYCLES), (1.0, 1, 0.01, 0, CYCLES),  # others never pause: more would tell no more
        (1.0, 0, 0.1, 0, MOST_CYCLES),  # unless they are at it more and more
        (0.7, 0, 0.05, 0, range(CYCLES + 1, MOST_CYCLES)),  # until it is known what others did
    ],
)  # fmt: skip
def test_no_more_cycles_are_played_than_tell_something(monkeypatch, share, notes, drift, spread, cycles):
    """Each takes so much more than the one before it. One place in two takes so much more once a deadline (ns)."""
    made, number = Shared(share, cycles=MOST_CYCLES + 1), [0, 0]
    made.times[1] += spread * (np.arange(96) % 2)
    told = np.where(made.told == 0, (1000, 1500), made.told)

    class Played:
        def __init__(self, *_):
            pass

        def play(self, way):
            number[way] += 1
            at = int(way), number[way] - 1
            return (1 + drift) ** number[way] * made.times[at], told[at]

    monkeypatch.setattr(paced, "Turns", Played)
    find_paced(None, None, chord(notes), 48000, 64, 0, lambda: None, 1.5)
    assert number[True] in (cycles if isinstance(cycles, range) else (cycles,))


def test_blocks_are_a_deadline_apart_or_in_a_row(tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, "clap", monkeypatch, "COLD")
    hosted = load(Request(plugin.use(), 48000, (64,), str(plugin.path)))
    turns = Turns(hosted, TimedLoop(hosted, musical(1, 48000, 1.0)), (), 48000, 64)
    (row, _), (paced, told), (again, _) = (turns.play(way) for way in (False, True, False))
    assert told.shape == (128, 2) and (told > 0).all()
    assert len(row) == len(paced) == len(again) == 128
    cold = (known.CALL + known.COLD) * 1e9
    # Behind one that was held up for most of its deadline the next comes at once.
    in_time = np.append(True, paced[:-1] < 64 / 48000 * 1e9 - known.COLD_AFTER * 1e9)
    assert (paced[in_time] > cold).all() and in_time.mean() > 0.5
    assert np.median(row) < cold > np.median(again)
    hosted.close()


def test_a_plugin_longer_than_its_deadline_is_called_in_a_row(tmp_path, monkeypatch):
    plugin = known.installed(tmp_path, "clap", monkeypatch, "COLD")
    hosted = load(Request(plugin.use(Extra=100.0), 48000, (64,), str(plugin.path)))
    alive: list[int] = []
    found = find_paced(
        hosted, TimedLoop(hosted, musical(1, 48000, 1.0)), (), 400_000, 64, overhead_ns(), lambda: alive.append(1)
    )  # fmt: skip
    # 64 samples at 400 kHz are 160 µs, less than the 121 µs that it takes and what is cold.
    assert found.paced == pytest.approx(found.row, rel=0.05)
    # Those of a plugin that waits for the clock change nothing: so few are enough.
    assert 2 * FEWEST <= len(alive) <= 2 * MOST_CYCLES
    hosted.close()
