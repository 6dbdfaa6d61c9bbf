"""Cores that are not alike: threads of one real core, and slow ones."""

from __future__ import annotations

import random
import statistics
from itertools import pairwise

import msgspec
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.costs import costs, touched
from nimbleload.core.load.prepared import prepare
from nimbleload.core.optimise.advice import kept_best
from nimbleload.core.session.computer import Host, Machine, kept_on, parts_of, seen_from
from nimbleload.core.survey import instant, survey
from nimbleload.core.told.cores import part_words
from nimbleload.core.told.outlook import outlook
from tests.helpers.anywhere import against_events
from tests.helpers.sessions import RATE, bus, cards_for, session, track

BLOCK = 256 / RATE
PAIRS = Machine(16, measured_cores=16, second=8)
BOTH = Machine(20, measured_cores=20, second=6, slow=8)


def tracks(count):
    return session(*(track(f"t{k}", f"p{k}") for k in range(count)), limit=0.5)


def found(of, shares, **more):
    """Cards whose plugins take such shares of a block, and such of their upkeep."""
    cards = cards_for(of, {name: share * BLOCK for name, share in shares.items()})
    return {
        key: msgspec.structs.replace(each, upkeep=msgspec.structs.replace(each.upkeep, **more))
        for key, each in cards.items()
    }


def load(of, cards, machine):
    return float(survey(of, Plan(), cards, machine, 256).after.load.max())


@pytest.mark.parametrize(("machine", "expected"), [
    (Machine(16), 0.2), (PAIRS, 0.32), (kept_on(8, PAIRS), 0.4), (Machine(8), 0.4),
    (kept_on(12, PAIRS), 0.4 * (1 + 0.6 * 8 / 12 * 7 / 11)),
])  # fmt: skip
def test_threads_of_one_core_slow_each_other(machine, expected):
    """Sixteen tracks of a fifth of a block, which take 1.6 times as long beside another on the same core. Twelve
    threads need two rounds, in which 16/2 compute on the average: 7/11 of the time beside others, which 8 of 12 have.
    """
    of = tracks(16)
    cards = found(of, {f"p{k}": 0.2 for k in range(16)}, paired=1.6)
    assert load(of, cards, machine) == pytest.approx(expected)


def test_what_cores_take_from_each_other_is_told_apart():
    of = tracks(16)
    at = instant(survey(of, Plan(), found(of, {f"p{k}": 0.2 for k in range(16)}, paired=1.6, slower=1.5), BOTH, 256))
    parts, load = at.parts, at.rung(256).load
    assert sum(parts) == pytest.approx(load) and parts.own == pytest.approx(0.2)
    assert parts.uneven == pytest.approx(0.2 * 0.5 * 8 / 20)
    assert parts.beside == pytest.approx(load - parts.own - parts.uneven) and parts.beside > 0.02


def test_a_host_with_fewer_threads_meets_others_on_its_cores_less_often():
    """Four threads lie on any of 16: beside three others, of which each is the other half with a chance of 1 in 15."""
    of = msgspec.structs.replace(tracks(4), host=Host(cores_left_free=12))
    cards = found(of, {f"p{k}": 0.2 for k in range(4)}, paired=1.6)
    assert load(of, cards, PAIRS) == pytest.approx(0.2 * (1 + 0.6 * 3 / 15))
    # One is never beside another.
    alone = msgspec.structs.replace(tracks(4), host=Host(cores_left_free=15))
    assert load(alone, cards, PAIRS) == pytest.approx(0.8)


def test_what_lies_on_slow_cores_takes_longer_and_so_does_what_waits_for_it():
    of = session(track("t", "p", output="b"), bus("b", "q"), limit=0.5)
    cards = found(of, {"p": 0.3, "q": 0.2}, slower=2.5, paired=1.6)
    expected = 0.5 * (1 + 1.5 * 8 / 20)
    at = instant(survey(of, Plan(), cards, BOTH, 256))
    assert at.rung(256).load == pytest.approx(expected)
    # It is told apart from the plugins' own work.
    assert at.parts.uneven == pytest.approx(expected - 0.5) and at.parts.own == pytest.approx(0.5)
    assert load(of, cards, kept_on(6, BOTH)) == pytest.approx(0.5)
    assert load(of, cards, kept_on(10, BOTH)) == pytest.approx(0.5 * (1 + 1.5 * 4 / 10))


def test_of_what_others_take_as_much_counts_as_there_are_others():
    """Measured beside three others; what four threads lie on is two of a pair each, or one of eight."""
    of = tracks(8)
    cards = found(of, {f"p{k}": 0.1 for k in range(8)}, beside=1.3, others=3)
    for machine, part in ((Machine(2), 1 / 3), (Machine(4), 1.0), (Machine(8), 1.0), (Machine(4, second=2), 1 / 3)):
        rounds = 8 / machine.cores
        assert load(of, cards, machine) == pytest.approx(0.1 * rounds * (1 + 0.3 * part))
    # In an earlier way it was not told how many there were.
    cards = found(of, {f"p{k}": 0.1 for k in range(8)}, beside=1.3)
    assert load(of, cards, Machine(2)) == pytest.approx(0.4 * 1.3)


def test_what_two_threads_of_a_core_touch_is_in_the_same_caches():
    of = tracks(16)
    prepared = prepare(of, found(of, {f"p{k}": 0.1 for k in range(16)}, footprint=1000))
    assert touched(prepared, Machine(16)) == 1000.0
    assert touched(prepared, PAIRS) == touched(prepared, kept_on(8, PAIRS)) == 2000.0


def test_all_that_slows_down_is_there_for_each_state_and_only_for_what_has_it():
    of = session(track("t", "p", "q"))
    cards = cards_for(of, {"p": 1e-4, "q": 1e-4}, silent=5e-5)
    key = next(key for key in cards if key.identifier == "p")
    up = msgspec.structs.replace(cards[key].upkeep, slower=2.0, paired=1.5)
    at = costs(prepare(of, {**cards, key: msgspec.structs.replace(cards[key], upkeep=up)}), BOTH, 256)
    assert at.uneven[:, 0] == pytest.approx([2e-5, 4e-5])
    assert at.by_state[:, 0] == pytest.approx([12e-5, 24e-5])
    assert at.beside[:, 0] == pytest.approx([0.3 * 7e-5, 0.3 * 14e-5])


class TestAgainstEvents:
    """The load computation takes what is expected of threads that lie anywhere; here they are thrown there."""

    @pytest.mark.parametrize(("machine", "threads", "count", "off"), [
        (PAIRS, 16, 60, 0.03), (PAIRS, 16, 24, 0.04), (PAIRS, 8, 60, 0.04), (PAIRS, 4, 60, 0.03),
        (Machine(4, second=2), 4, 12, 0.03), (BOTH, 20, 60, 0.06), (BOTH, 10, 60, 0.06),
        (Machine(8, slow=4), 8, 40, 0.12),
    ])  # fmt: skip
    def test_it_is_near_the_mean(self, machine, threads, count, off):
        tried = [against_events(machine, threads, count, 1.6, 1.8, 24, random.Random(seed)) for seed in range(6)]
        ratios = [said / statistics.fmean(seen) for said, seen in tried]
        assert statistics.fmean(ratios) == pytest.approx(1.0, abs=off), ratios


class TestTheHostOnAPart:
    def test_the_parts_are_those_of_cores_that_are_alike(self):
        assert parts_of(Machine(8, measured_cores=8)) == {}
        assert [part_words(part, PAIRS) for part in parts_of(PAIRS).values()] == ["8 of 16 cores (one thread of each)"]
        assert [part_words(part, BOTH) for part in parts_of(BOTH).values()] == [
            "12 of 20 cores (the fast ones)", "14 of 20 cores (one thread of each)",
            "6 of 20 cores (the fast ones, one thread of each)",
        ]  # fmt: skip
        assert [(part.second, part.slow) for part in parts_of(BOTH).values()] == [(6, 0), (0, 8), (0, 0)]
        assert not any(part.is_another for part in parts_of(BOTH).values())

    def test_fast_cores_come_first_and_second_threads_last(self):
        parts = [kept_on(count, BOTH) for count in range(1, 21)]
        assert [(of.cores, of.real) for of in parts] == [(n, min(n, 14)) for n in range(1, 21)]
        assert all(b.fast >= a.fast and b.slow >= a.slow and b.second >= a.second for a, b in pairwise(parts))
        assert [of.kept for of in parts] == [True] * 19 + [False] and parts[-1] == BOTH
        assert kept_on(99, BOTH) == BOTH and kept_on(0, BOTH) == kept_on(1, BOTH)

    def test_slow_cores_may_be_in_pairs_as_well(self):
        """Four fast and eight slow cores, each two threads."""
        here = Machine(24, measured_cores=24, second=12, slow=16, slow_second=8)
        assert (here.real, here.fast, here.on_slow, here.in_pairs(24)) == (12, 4, 16 / 24, 1)
        asked = {name: (part.cores, part.second, part.slow, part.slow_second) for name, part in parts_of(here).items()}
        assert asked == {"fast": (8, 4, 0, 0), "each": (12, 0, 8, 0), "fast-each": (4, 0, 0, 0)}
        assert [kept_on(count, here).slow for count in (4, 5, 12, 16, 17, 24)] == [0, 1, 8, 8, 9, 16]
        assert kept_on(17, here).slow_second == 1 and kept_on(24, here) == here

    def test_what_is_saved_is_this_computer_where_it_can_be(self):
        saved = Machine(16, name="studio")
        assert seen_from(saved, PAIRS) == msgspec.structs.replace(PAIRS, name="studio")
        assert not seen_from(kept_on(8, PAIRS), PAIRS).is_another
        # Elsewhere the same part is another computer: one without so many cores, or without such ones.
        for here in (Machine(4, measured_cores=4), BOTH):
            other = seen_from(kept_on(8, PAIRS), here)
            assert other.is_another and other.real == 8 and other.measured_cores == here.cores
        assert seen_from(Machine(8), PAIRS).is_another and seen_from(Machine(16, 2.0), PAIRS).is_another

    def test_the_advice_is_the_best_of_them_as_the_load_has_it(self):
        """A long chain beside much else: on one thread of each core nobody slows it down."""
        chain = [bus("c", "c", output="d"), bus("d", "d")]
        of = session(*chain, track("t", "t", output="c"), *(track(f"s{k}", "s") for k in range(20)), limit=0.5)
        shares = {"t": 0.3, "c": 0.25, "d": 0.25, "s": 0.1}
        better = 0
        for paired, slower in ((1.9, 1.0), (1.2, 2.5), (1.0, 1.0), (1.7, 1.3)):
            cards = found(of, shares, paired=paired, slower=slower)
            whole = survey(of, Plan(), cards, BOTH, 256)
            at = instant(whole)
            tried = {part: load(of, cards, part) for part in parts_of(BOTH).values()}
            best = min(tried, key=tried.get)
            kept = kept_best(whole, at)
            said = outlook(whole, at).verdict.advice
            if tried[best] < at.rung(256).load - 0.001:
                better += 1
                assert kept is not None and kept.machine == best and kept.load == pytest.approx(tried[best])
                assert f"With the host kept on {part_words(best, BOTH)} it would take {100 * kept.load:.0f} %" in said
            else:
                assert kept is None and "kept on" not in said
        assert better == 3

    def test_of_another_computer_or_a_part_none_is_given(self):
        of = tracks(16)
        cards = found(of, {f"p{k}": 0.9 for k in range(16)}, slower=6.0)
        whole = survey(of, Plan(), cards, BOTH, 256)
        assert kept_best(whole, instant(whole)) is not None
        for machine in (msgspec.structs.replace(BOTH, measured_cores=4), kept_on(14, BOTH), Machine(8)):
            whole = survey(of, Plan(), cards, machine, 256)
            assert kept_best(whole, instant(whole)) is None
