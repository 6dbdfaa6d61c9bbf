"""Who takes how much: shares, their intervals, and differences that are more than chance."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import binomtest

from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.shares import KERNEL, Share, changes, parts, shares, wilson
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 2_000_000


def test_each_look_stands_for_its_cpu_time():
    leader = blocks(PERIOD, 1000, [1_000_000])
    # One look a block: three of four at plugin 1, one at plugin 2. Each stands for 1 ms.
    looks = [(begin + 500_000, 1 if k % 4 else 2) for k, (begin, _) in enumerate(leader)]
    of = recording(thread(1, leader, looks=looks), files=["one", "two"], begun=leader[0][0], seconds=2.0)
    first, second = shares(see(of))
    assert (first.owner, second.owner) == (1, 2)
    assert first.core == pytest.approx(0.375)
    assert second.core == pytest.approx(0.125)
    assert (first.looks, second.looks) == (750, 250)
    assert first.low < first.core < first.high
    assert first.threads == (0,)


def test_what_is_not_met_in_the_program_is_the_systems():
    leader = blocks(PERIOD, 1000, [1_000_000])
    looks = [(begin + 500_000, 1) for begin, _ in leader[::2]]
    of = recording(thread(1, leader, looks=looks), files=["one"], begun=leader[0][0], seconds=2.0)
    found = {share.owner: share.core for share in shares(see(of))}
    assert found == {1: pytest.approx(0.25), KERNEL: pytest.approx(0.25)}


def test_the_worst_blocks_show_who_makes_them_so():
    # Plugin 2 works in every twentieth block only, and makes it long.
    leader = blocks(PERIOD, 1000, [1_500_000, *[500_000] * 19])
    looks = [(begin + 100_000, 1) for begin, _ in leader]
    looks += [(begin + 700_000, 2) for begin, end in leader if end - begin > 1_000_000]
    of = recording(thread(1, leader, looks=sorted(looks), weight=500_000), files=["one", "two"], begun=leader[0][0])
    one, two = (next(s for s in shares(see(of)) if s.owner == owner) for owner in (1, 2))
    assert one.worst == pytest.approx(0.25, rel=0.05)
    assert two.worst == pytest.approx(0.25, rel=0.05)
    assert two.core == pytest.approx(0.25 / 20, rel=0.1)


def test_threads_of_other_roles_are_kept_apart():
    leader = blocks(PERIOD, 500, [500_000])
    drawing = [(begin, begin + 2_000_000) for begin, _ in blocks(30_000_000, 30, [2_000_000])]
    looks = [(begin + 100_000, 1) for begin, _ in drawing]
    of = recording(
        thread(2, leader, process=1),
        thread(1, drawing, real_time=False, process=1, looks=looks, weight=2_000_000),
        files=["its window"],
    )
    seen = see(of)
    assert [s.owner for s in shares(seen, "window")] == [1]
    assert all(s.owner != 1 for s in shares(seen))
    assert [(part.role, part.threads) for part in parts(seen)] == [("engine", 1), ("window", 1)]
    assert parts(seen)[0].core == pytest.approx(500 * 500_000 / (of.ended - of.begun), rel=0.01)


@pytest.mark.parametrize(("hits", "of"), [(0, 10), (3, 10), (10, 10), (150, 1000)])
def test_intervals_are_wilsons(hits, of):
    exact = binomtest(hits, of).proportion_ci(method="wilson")
    assert wilson(hits, of) == pytest.approx((exact.low, exact.high), abs=1e-9)
    assert wilson(0, 0) == (0.0, 1.0)


def test_true_shares_lie_within_their_intervals_as_often_as_is_said():
    rng = np.random.default_rng(4)
    within = 0
    for _ in range(400):
        low, high = wilson(rng.binomial(300, 0.3), 300)
        within += low <= 0.3 <= high
    assert within >= 0.93 * 400


def test_a_difference_is_real_only_beyond_chance():
    def share(core, half):
        return Share(1, core, core - half, core + half, 0.0, 100, (0,))

    before = {"a": share(0.30, 0.02), "b": share(0.10, 0.02), "gone": share(0.05, 0.01)}
    after = {"a": share(0.20, 0.02), "b": share(0.11, 0.02), "new": share(0.001, 0.002)}
    found = {change.name: change for change in changes(before, after)}
    assert [change.name for change in changes(before, after)] == ["a", "gone", "b", "new"]
    assert {name: change.is_real for name, change in found.items()} == {
        "a": True, "gone": True, "b": False, "new": False,
    }  # fmt: skip
    assert found["a"].difference == pytest.approx(-0.10)


def drawn(rng, rates, looks=4000):
    """What so many looks say of owners that take such shares of a core."""
    met = rng.multinomial(looks, rates)
    found = {}
    for owner, hits in enumerate(met.tolist()):
        low, high = wilson(hits, looks)
        found[str(owner)] = Share(owner, hits / looks, low, high, 0.0, hits, (0,))
    return found


def test_of_many_rows_in_which_nothing_has_changed_hardly_ever_one_is_told():
    rng = np.random.default_rng(5)
    rates = rng.dirichlet(np.full(40, 2.0))
    wrong = sum(any(c.is_real for c in changes(drawn(rng, rates), drawn(rng, rates))) for _ in range(300))
    # Row by row it would be seven times of eight.
    assert wrong <= 0.08 * 300


def test_what_has_changed_is_found_among_many():
    rng = np.random.default_rng(6)
    rates = rng.dirichlet(np.full(40, 2.0))
    top = np.argsort(-rates)[:3]
    less = rates.copy()
    less[top[0]] = 0.0
    less[top[1]] *= 0.5
    found = 0
    for _ in range(50):
        real = {c.name for c in changes(drawn(rng, rates), drawn(rng, np.append(less, 1 - less.sum()))) if c.is_real}
        found += {str(top[0]), str(top[1])} <= real
    assert found >= 45


def test_a_row_that_is_less_sure_than_one_that_is_chance_is_chance_too():
    """After Holm: three rows, of which the second best is not sure enough for two."""

    def share(core):
        return Share(1, core, core - 0.02, core + 0.02, 0.0, 100, (0,))

    # In half widths of the difference (0.0283): 3.5, 1.1, 1.05.
    after = {"a": share(0.3 + 3.5 * 0.0283), "b": share(0.3 + 1.1 * 0.0283), "c": share(0.3 + 1.05 * 0.0283)}
    found = {c.name: c.is_real for c in changes(dict.fromkeys("abc", share(0.3)), after)}
    assert found == {"a": True, "b": False, "c": False}
    # Alone it would do.
    assert changes({"b": share(0.3)}, {"b": after["b"]})[0].is_real
