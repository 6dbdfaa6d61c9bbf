"""Whether a host takes more memory all the time, from what it kept second by second."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.load.memory import Keeps, Memory
from nimbleload.core.survey import Compared
from nimbleload.core.told.watching import compared_words, findings
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.held_memory import Held, grows
from tests.helpers.recordings import blocks, recording, thread

MB = 1 << 20


def kept(of, swapped=0, every=1.0):
    """A host that keeps `of(second)` bytes."""
    seconds = np.arange(0, 120, every)
    return tuple(Held(round(s * 1e9), int(of(s)), 50 * MB, swapped, 0) for s in seconds)


@pytest.mark.parametrize("rate", [0.05, 0.5, 20])
def test_what_is_never_given_back_is_found_at_its_rate(rate):
    rng = np.random.default_rng(1)
    of = kept(lambda s: 400 * MB + rate * MB * s + rng.integers(0, 64 << 10))
    assert grows(of) == pytest.approx(rate * MB, rel=0.02)
    # What is swapped out meanwhile is no less.
    out = tuple(each._replace(own=each.own - k * MB // 2, swapped=k * MB // 2) for k, each in enumerate(of))
    assert grows(out) == pytest.approx(rate * MB, rel=0.02)


@pytest.mark.parametrize(
    "of",
    [
        lambda s: 400 * MB,
        lambda s: 400 * MB + (900 * MB if s > 70 else 0),  # a project is opened
        lambda s: 400 * MB + min(s, 50) * 20 * MB,  # samples are loaded, and then all are there
        lambda s: 400 * MB + (s // 30 % 2) * 100 * MB,  # it comes and goes
        lambda s: 400 * MB - 2 * MB * s,
        lambda s: 400 * MB + 0.3 * MB * s + (300 * MB if s > 60 else 0),  # mostly a step
        lambda s: 400 * MB + 1000 * s,  # two hundred hours for 700 MB
    ],
)
def test_what_comes_in_steps_or_ends_is_no_growth(of):
    assert grows(kept(of)) == 0.0


def test_from_less_than_a_minute_nothing_is_said():
    of = kept(lambda s: 400 * MB + 5 * MB * s)
    assert grows(of[:58]) == 0.0 and grows(of[:62]) > 0
    assert grows(()) == grows(of[:1]) == 0.0
    # Two looks, and two an age later, are no minute that was looked at.
    assert grows((*of[:20], *of[100:])) == 0.0


def test_what_it_keeps_is_told_with_what_lies_on_the_disk_and_what_grows():
    def said(memory):
        of = recording(thread(1, blocks(5_000_000, 100, [500_000])))
        return " ".join(findings(see(of._replace(memory=memory)), [], [], {}))

    assert "It keeps" not in said(())
    words = said((Held(0, 3 << 30, 210 * MB, 0, 0),))
    assert "It keeps 3.0 GB in memory, and 210 MB of files." in words
    words = said((Held(0, 1, 1, 0, 0), Held(1, 3 << 30, 210 * MB, 1200 * MB, 4 << 30)))
    assert "files; 1.2 GB more lie on the disk, swapped out; 4.0 GB it does not let be swapped out" in words
    words = said(kept(lambda s: 400 * MB + 2 * MB * s))
    assert "It takes 120 MB more memory a minute, without an end so far." in words


def test_predicted_memory_stands_against_what_the_host_keeps():
    keeps = Memory((Keeps(("lv2", "a", "", ""), "Quire", 2, 100 * MB, 800 * MB, 0.0),), 0, 0, 0)
    of = Compared(1.0, 256, 0.5, 0.5, 0.5, 0.5, [], keeps, Held(0, 1100 * MB, 100 * MB, 50 * MB, 0))
    assert compared_words(of).endswith("Memory: its plugins keep 1.0 GB as measured, the host 1.2 GB with all in it.")
    loads = of._replace(load=1.2560, typical=0.4836)
    assert "126 % of the deadline; seen 48 %: 78 % of the deadline less." in compared_words(loads)
    assert of.figures()["keeps"] == 1000 * MB and of.figures()["kept"] == 1250 * MB
    less = of._replace(kept=Held(0, 500 * MB, 100 * MB, 0, 0))
    assert "600 MB with all in it: less, since some of it is loaded when it first plays" in compared_words(less)
    assert "Memory" not in compared_words(of._replace(kept=None)) and of._replace(kept=None).figures()["kept"] is None
    assert "Memory" not in compared_words(of._replace(keeps=Memory((), 0, 3, 0)))
