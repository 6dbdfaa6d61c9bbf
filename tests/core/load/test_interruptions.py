"""What interrupts blocks, from the cards: each length as often as it was met, and on average what loads count with."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest

from nimbleload.core.load.case import case
from nimbleload.core.load.interruptions import USUAL, Interruptions, drawn, interruptions
from nimbleload.core.load.peaks import bad_loads
from nimbleload.core.load.prepared import prepare
from nimbleload.core.session.computer import Machine
from tests.helpers.sessions import RATE, cards_for, session, track

OF = session(track("a", "p"), track("b", "q"))
BLOCK = 256 / RATE


def met(seconds: float, kept_us: list[float], count: int, jitter: float, watched: float = 10.0):
    """What to put into a cell: so many interruptions in so long, of which these were kept (µs)."""
    kept = (np.array(kept_us) * 1e3).astype("<i4").tobytes()
    return {"mean": seconds, "jitter": jitter, "watched": watched, "interruptions": count, "interrupted": kept}


def at(cells: dict[str, dict], cores: int = 1):
    cards = cards_for(OF, {"p": 1e-3, "q": 1e-3})
    made = {}
    for key, card in cards.items():
        scaled = [
            msgspec.structs.replace(c, **(cells[key.identifier] if c.buffer == 256 else {"jitter": 0.0}))
            for c in card.cells
        ]
        made[key] = msgspec.structs.replace(card, cells=tuple(scaled))
    return case(prepare(OF, made), Machine(cores), 256)


def test_each_length_counts_as_often_as_it_was_met():
    """Of two interruptions both were kept, of ninety-eight one: it stands for all of them."""
    found = interruptions(at({"p": met(1e-3, [10, 10], 2, 5e-4), "q": met(1e-3, [100], 98, 5e-4)}))
    assert np.isclose(found.lengths, 100e-6).mean() == pytest.approx(0.98, abs=0.005)
    assert found.lengths.mean() == pytest.approx(98.2e-6, rel=0.005)
    # Both conditions of both cells were watched for ten seconds each.
    assert found.rate == pytest.approx(2 * 100 / 40)


@pytest.mark.parametrize("jitter", [1e-6, 5e-4])
def test_together_they_are_what_the_load_counts_with(jitter):
    of = at({"p": met(1e-3, [50], 400, jitter), "q": met(1e-3, [200], 100, jitter)})
    assert interruptions(of).share == pytest.approx(of.costs.interrupted)
    assert of.costs.interrupted == pytest.approx(jitter / 1e-3)


def test_without_any_there_are_none():
    assert interruptions(at({"p": met(1e-3, [], 0, 0.0), "q": met(1e-3, [], 0, 0.0)})).share == 0


def test_an_interruption_hits_the_strip_that_computes_by_how_long_it_does():
    rng = np.random.default_rng(5)
    rows = np.tile([[1e-3, 3e-3, 0.0]], (4000, 1))
    added = drawn(Interruptions(100.0, np.array([1e-4]), 0.02), rows, rng)
    assert added[:, 2].max() == 0
    # A hundred a second of computing, a tenth of a millisecond each, and two hundredths beside.
    assert added.mean(axis=0)[:2] == pytest.approx(rows[0, :2] * (100 * 1e-4 + 0.02), rel=0.1)


def test_each_lands_where_its_block_has_got_to_at_that_instant():
    """Walked through strip by strip with the same draws; blocks and strips that compute nothing meet none."""
    rows = np.random.default_rng(2).exponential(1e-3, (60, 7)) * np.random.default_rng(3).integers(0, 2, (60, 7))
    rows[11] = 0.0
    of = Interruptions(2000.0, np.array([1.0, 100.0]), 0.0)
    rng, like = np.random.default_rng(4), np.random.default_rng(4)
    expected = np.zeros_like(rows)
    hit = np.repeat(np.arange(len(rows)), like.poisson(2000.0 * rows.sum(axis=1)))
    after = like.random(len(hit)) * rows.sum(axis=1)[hit]
    for block, left, length in zip(hit, after, like.choice(of.lengths, len(hit)), strict=True):
        strip = 0
        while left >= rows[block, strip]:
            left -= rows[block, strip]
            strip += 1
        expected[block, strip] += length
    assert (drawn(of, rows, rng) == expected).all() and expected.any(axis=1).sum() > 40


@pytest.mark.parametrize(("a_block", "seen"), [(0.002, False), (0.05, True)])
def test_one_block_in_a_hundred_meets_an_interruption_only_if_as_many_do(a_block, seen):
    """Both tracks compute for 2 ms a block: by the rate a share of all blocks is interrupted, for a whole block."""
    rate = a_block / 2e-3
    # Exactly as much jitter as that comes to, so that nothing is left over.
    lost = rate * BLOCK * 1e-3
    of = at({name: met(1e-3, [BLOCK * 1e6], round(rate * 1000), lost, 1000.0) for name in "pq"})
    bad = float(bad_loads(of)[0])
    assert bad == pytest.approx((2e-3 + seen * BLOCK) / BLOCK, rel=0.01)


@pytest.mark.parametrize("expected", [0.01, 0.7, 5.0])
def test_of_blocks_that_meet_one_at_least_some_meet_more(expected):
    """Against the closed form of a Poisson law without its zero."""
    rows = np.full((20_000, 1), 1e-3)
    added = drawn(Interruptions(expected * 1e3, np.array([1.0]), 0.0), rows, np.random.default_rng(3), once=True)
    assert added.min() == pytest.approx(1.0)
    assert added.mean() == pytest.approx(expected / -np.expm1(-expected), rel=0.02)
    idle = drawn(Interruptions(10.0, np.array([1.0]), 0.0), np.zeros((5, 2)), np.random.default_rng(3), once=True)
    assert not idle.any()


@pytest.mark.parametrize("figures", [
    # Cards of before interruptions were kept, and cards that were watched and met none: only their mean is known.
    {"mean": 1e-3, "jitter": 1e-4, "watched": 0.0, "interruptions": 0, "interrupted": b""},
    {"mean": 1e-3, "jitter": 1e-4, "watched": 10.0, "interruptions": 0, "interrupted": b""},
])  # fmt: skip
def test_where_no_length_was_kept_usual_ones_make_up_the_mean(figures):
    of = at({"p": figures, "q": figures})
    found = interruptions(of)
    assert found.lengths.tolist() == [USUAL] and found.rest == 0.0
    assert found.share == pytest.approx(of.costs.interrupted) and found.share == pytest.approx(0.1)
