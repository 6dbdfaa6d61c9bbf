"""What plugins do to the clock of their core: found on a core whose clock is known, and on the one there is."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.strips import Clip, Strip
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.card import card_sentences
from nimbleload.native.witness import CLOCK
from nimbleload.probe import session_run, slowed
from nimbleload.probe.effort import Effort
from nimbleload.probe.paced import PACED_SIZES
from tests.helpers import known
from tests.helpers.sessions import session

STEPS, BLOCK = 1000, 30_000


class Core:
    """A core on which blocks take 30 µs. Each `wide` one lowers its clock, from 40 µs after it on, until it is back."""

    def __init__(self, monkeypatch, wide, by=1.2, lasts=600_000, interrupted=()):
        self.time = self.calls = 0
        self.wide, self.by, self.lasts, self.interrupted = wide, by, lasts, interrupted
        self.lower = (0, 0)
        self.looks = 0
        for name in ("now", "attest", "call2", "give", "flush_denormals"):
            monkeypatch.setattr(slowed, name, getattr(self, name))

    def now(self, clock):
        return self.time

    def attest(self, told, clock):
        self.looks += 1
        slower = self.by if self.lower[0] <= self.time < self.lower[1] else 1.0
        if self.looks in self.interrupted:
            slower = 5.0
        told[CLOCK] = round(STEPS * slower)
        self.time += 2 * told[CLOCK]

    def call2(self, call, handle, argument):
        self.time += BLOCK
        if self.calls in self.wide:
            self.lower = (self.time + 40_000, self.time + self.lasts)
        self.calls += 1

    def give(self, *rest):
        """Copies nothing."""

    def flush_denormals(self):
        """Does nothing."""


def followed(blocks):
    befores, by, lasts = np.zeros(blocks, np.int64), np.ones(blocks), np.zeros(blocks, np.int64)
    sound = np.zeros((1, 1024), np.float32)
    slowed._follow.py_func(0, 0, 0, 0, sound, None, sound, 64, befores, by, lasts, 0)
    assert (befores == STEPS).all()
    return by, lasts


def test_a_clock_that_goes_down_after_the_block_is_followed_until_it_is_back(monkeypatch):
    Core(monkeypatch, wide={1, 3})
    by, lasts = followed(5)
    assert (lasts > 0).tolist() == [False, True, False, True, False]
    assert by[[1, 3]] == pytest.approx([1.2, 1.2])
    # Within a look and a half of when it was back.
    assert np.abs(lasts[[1, 3]] - 600_000).max() < 2 * 2 * STEPS * 1.2


def test_an_interruption_beside_a_look_is_no_lower_clock(monkeypatch):
    Core(monkeypatch, wide=(), interrupted={5, 6, 40, 41, 42})
    _, lasts = followed(5)
    assert not lasts.any()


def test_a_clock_that_stays_where_it_is_was_changed_by_something_else(monkeypatch):
    core = Core(monkeypatch, wide={2}, lasts=50_000_000)
    _, lasts = followed(3)
    assert lasts.tolist() == [0, 0, -1]
    # And it is not waited for much longer than any processor takes.
    assert core.time < 2 * slowed.LONGEST


class Rounds:
    """Rounds of 64 blocks of which every fourth lowers the clock to 1.15 for 0.6 ms, on a core whose clock somebody
    else has lowered before a share of them, lowers after as many, and holds down for good after a few."""

    def __init__(self, others, wide=4, rounds=8, full=1000, seed=1):
        rng, shape = np.random.default_rng(seed), (rounds, 64)
        own = np.where(np.arange(64) % wide == 1, 600_000, 0) if wide else np.zeros(64, int)
        self.befores, after, stays = (rng.random(shape) < part for part in (others, others, others / 4))
        self.befores = full * np.where(self.befores, 1.15, 1.0)
        seen = np.where(self.befores > full, 0, own)
        self.lasts = np.where(stays, -1, np.where(after, seen + rng.integers(50_000, 700_000, shape), seen))
        self.by = np.where(self.lasts > 0, 1.15, 1.0)
        self.mean = own.mean() / 1e9

    def found(self, rounds=8):
        return slowed.followed(*(each[:rounds] for each in (self.befores, self.by, self.lasts)), 1e-6)


@pytest.mark.parametrize("others", [0.0, 0.2, 0.4])
def test_what_a_plugin_does_to_the_clock_it_does_every_time_and_others_now_and_then(others):
    rounds = Rounds(others)
    found = rounds.found()
    assert found.seconds == pytest.approx(rounds.mean, rel=0.12 + 0.4 * others) and found.by == pytest.approx(1.15)
    assert found.known > 0.9
    # One round alone says much more, or less, where others are at it.
    assert others == 0 or abs(rounds.found(1).seconds - rounds.mean) > 0.3 * rounds.mean
    plain = Rounds(others, wide=0).found()
    assert plain.seconds < 30e-6 and (plain.by == 1.0) == (plain.seconds == 0)


def test_where_the_clock_was_low_before_every_block_nothing_is_known():
    assert Rounds(0.0, full=1150).found().known == 0
    assert Rounds(0.0, full=1030).found().known == 1


def slowing_of(rounds, monkeypatch, best):
    """What is found of a plugin of which these rounds are heard, and how many of them."""
    heard = []

    def follow(*arguments):
        at = len(heard)
        heard.append(at)
        for mine, theirs in zip(arguments[8:11], (rounds.befores, rounds.by, rounds.lasts), strict=True):
            mine[:] = theirs[at]

    class Hosted:
        call, handle, inputs = 0, 0, None

        def argument(self, *_):
            return 0

    loop = SimpleNamespace(fill=lambda *_: (), rewind=lambda: None, source=None, rows=None)
    monkeypatch.setattr(slowed, "_follow", follow)
    monkeypatch.setattr(slowed, "let_go", lambda: None)
    monkeypatch.setattr(slowed, "look", lambda: (1e-6, 1.5))
    monkeypatch.setattr(slowed, "_in_a_row", lambda *_: (1e-6, 1.15e-6))
    monkeypatch.setattr(slowed.time, "sleep", lambda _: None)
    return slowed.find_slowing(Hosted(), loop, (), 48000, 128, lambda: None, best), len(heard)


@pytest.mark.parametrize(("others", "few", "most"), [(0.2, 3, 3), (0.75, 4, 8), (0.95, 3, 3)])
def test_rounds_go_on_only_while_it_may_still_become_known(monkeypatch, others, few, most):
    """Others lower the clock before so many of the blocks."""
    assert few <= slowing_of(Rounds(others), monkeypatch, 1e-6)[1] <= most


@pytest.mark.parametrize("best", [0.0, 1e-6, 0.8e-6])
def test_on_a_core_that_is_never_at_its_best_any_more_it_goes_by_what_it_is_now(monkeypatch, best):
    """One that has got warm: its chain takes 1 µs, and has been seen to take 0.8 or was never seen before."""
    rounds = Rounds(0.2)
    found, _ = slowing_of(rounds, monkeypatch, best)
    assert found.by == pytest.approx(1.15) and found.row == pytest.approx(1.15)
    assert found.seconds == pytest.approx(rounds.mean, rel=0.5) and found.known > 0.8


def test_what_a_plain_plugin_does_to_the_clock_is_told_in_its_card_and_is_nothing(tmp_path, monkeypatch):
    """It waits for the clock in registers. What it costs is the same beside one that does lower it."""
    plugin = known.installed(tmp_path, "clap", monkeypatch)
    of = session(Strip("a", "a", inserts=(plugin.use(),), clips=(Clip(0.0, 10.0),), output="main"))
    *_, last = session_run.run(session_run.jobs(of, {}, PACED_SIZES), {}, effort=Effort(2, 0.01, rounds=0))
    card = last.card
    assert [each.buffer for each in card.slowing] == list(PACED_SIZES)
    assert all(each.seconds < 300e-6 and each.row == pytest.approx(1.0, abs=0.2) for each in card.slowing)
    assert not any("Lowers the clock" in said for said in card_sentences(card, 48000, 64) if card.slowing[0].by == 1)
    assert instant(survey(of, Plan(), {card.key: card}, Machine(1), 64)).parts.slowed == pytest.approx(0, abs=0.01)
