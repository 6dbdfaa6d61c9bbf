"""What is taken of an engine's cores from outside: by the system's count of what its threads ran."""

from __future__ import annotations

import pytest

from nimbleload.core.told.watching import findings, late_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.outside import taken_outside
from nimbleload.core.watching.shares import parts
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 4_000_000


def seen(ran, other=-1.0, busy=(1_000_000,)):
    """A host of 400 blocks on one thread that ran for so long by the system's count (seconds), with a window beside."""
    window = thread(2, [(1_000_500_000, 1_900_000_000)], real_time=False)._replace(ran=other)
    return see(recording(thread(1, blocks(PERIOD, 400, list(busy)))._replace(ran=ran), window))


@pytest.mark.parametrize(
    ("ran", "wanted"), [(0.4, 0.0), (0.3, 0.25), (0.392, 0.02), (0.41, 0.0), (0.0, 1.0), (-1.0, None)]
)
def test_it_is_what_the_system_does_not_count(ran, wanted):
    assert taken_outside(seen(ran, 0.1)) == (None if wanted is None else pytest.approx(wanted, abs=1e-6))


def test_of_hardly_any_time_nothing_is_said():
    assert taken_outside(seen(0.01, busy=(200_000,))) is None


def test_it_is_told_where_it_matters():
    def said(ran):
        of = seen(ran)
        return " ".join(findings(of, [], parts(of), {}))

    assert "25 % of the time in which its engine had a core was taken away by something that is no" in said(0.3)
    assert "taken away" not in said(0.396) and "taken away" not in said(-1.0)


def test_since_a_later_time_it_is_not_known():
    of = seen(0.3).recording
    assert of.since(of.begun).threads[0].ran == 0.3
    assert of.since(of.begun + 1).threads[0].ran == -1.0


def test_where_all_took_longer_alike_it_says_by_whom_if_that_is_known():
    """One block in twenty takes three times as long, its two plugins alike."""
    stretches = blocks(PERIOD, 400, [1_000_000] * 19 + [4_400_000])
    looks = [
        (begin + k * 50_000, 1 if k < (end - begin) / 100_000 else 2)
        for begin, end in stretches for k in range((end - begin) // 50_000)
    ]  # fmt: skip
    host = thread(1, stretches, looks=looks, weight=50_000)
    own = sum(end - begin for begin, end in stretches) / 1e9
    for ran, words in ((own, "slowed down or taken away"), (0.9 * own, "cores were taken away meanwhile (see below)")):
        (said,) = late_words(see(recording(host._replace(ran=ran), files=("/a/Reed.so", "/a/Stone.so"))), {})
        assert words in said
