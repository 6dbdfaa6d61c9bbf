"""What plugins do to the clock of their core: found on a core whose clock is known, and on the one there is."""

from __future__ import annotations

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
    by, lasts = np.ones(blocks), np.zeros(blocks, np.int64)
    sound = np.zeros((1, 1024), np.float32)
    slowed._follow.py_func(0, 0, 0, 0, sound, None, sound, 64, by, lasts, 0)
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


def test_what_a_plain_plugin_does_to_the_clock_is_told_in_its_card_and_is_nothing(tmp_path, monkeypatch):
    """It waits for the clock in registers. What it costs is the same beside one that does lower it."""
    plugin = known.installed(tmp_path, "clap", monkeypatch)
    of = session(Strip("a", "a", inserts=(plugin.use(),), clips=(Clip(0.0, 10.0),), output="main"))
    *_, last = session_run.run(session_run.jobs(of, {}, PACED_SIZES), {}, effort=Effort(2, 0.01))
    card = last.card
    assert [each.buffer for each in card.slowing] == list(PACED_SIZES)
    assert all(each.seconds < 300e-6 and each.row == pytest.approx(1.0, abs=0.2) for each in card.slowing)
    assert not any("Lowers the clock" in said for said in card_sentences(card, 48000, 64) if card.slowing[0].by == 1)
    assert instant(survey(of, Plan(), {card.key: card}, Machine(1), 64)).parts.slowed == pytest.approx(0, abs=0.01)
