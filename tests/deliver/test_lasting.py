"""How long carrying out takes: worked out by hand, and corrected by how it goes."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.session.strips import Strip
from nimbleload.deliver import lasting
from nimbleload.deliver.carrying import MIX, Prepared
from nimbleload.deliver.lasting import HANDLING, TRUSTED, Effort, TimeLeft, effort, efforts
from nimbleload.deliver.render import Job, Rendered, Step
from nimbleload.deliver.sharing import Check
from nimbleload.deliver.stage import Feed, Stage
from nimbleload.deliver.stems import Together
from nimbleload.store.sounding import NotePart, Part, Sounding
from tests.helpers.sessions import RATE, card, track

SECONDS = 100
SAMPLES = SECONDS * RATE
EQ, COMPRESSOR = track("t", "eq", "compressor").inserts
# A block of 256 samples: as many as 18750 in the piece.
CARDS = {EQ.card_key(): card(EQ, 100e-6, silent=20e-6), COMPRESSOR.card_key(): card(COMPRESSOR, 300e-6)}
BLOCKS = SAMPLES / 256
ALL = Sounding((Part(0.0, SECONDS, 0.0, "a.wav"),))
HALF = Sounding((Part(10.0, 40.0, 0.0, "a.wav"), Part(30.0, 60.0, 0.0, "b.wav")))


def job(own="t", uses=(EQ, COMPRESSOR), sounding=ALL, buffer=256, **more):
    return Job(Strip(own, own, "track"), 1, tuple(uses), sounding, RATE, buffer, SAMPLES, **more)


def takes(of, cards=CARDS, proven=True):
    return efforts(Prepared(None, [of], [], None), cards, proven)[of.strip.id]


@pytest.fixture(autouse=True)
def two_cores(monkeypatch):
    monkeypatch.setattr(lasting, "CORES", 2)


class TestByTheCards:
    def test_a_track_takes_its_blocks_twice_if_it_is_proven(self):
        once = BLOCKS * 400e-6 + HANDLING * SECONDS
        assert takes(job(), proven=False) == pytest.approx((once, once, True))
        # At twice the block size half as many blocks take twice as long each here.
        assert takes(job()) == pytest.approx((2 * once, 2 * once, True))

    def test_the_proof_costs_what_its_own_block_size_does(self):
        dear = msgspec.structs.replace(CARDS[EQ.card_key()], cells=tuple(
            msgspec.structs.replace(cell, mean=5 * cell.mean) if cell.buffer == 512 else cell
            for cell in CARDS[EQ.card_key()].cells
        ))  # fmt: skip
        found = takes(job(uses=(EQ,)), {EQ.card_key(): dear}).work
        assert found == pytest.approx(BLOCKS * (100e-6 + 500e-6) + 2 * HANDLING * SECONDS)

    def test_beside_busy_cores_a_block_is_dearer(self):
        known = CARDS[EQ.card_key()]
        beside = msgspec.structs.replace(known, upkeep=msgspec.structs.replace(known.upkeep, beside=1.5))
        found = takes(job(uses=(EQ,)), {EQ.card_key(): beside}, proven=False).work
        assert found == pytest.approx(1.5 * BLOCKS * 100e-6 + HANDLING * SECONDS)
        alone = msgspec.structs.replace(known, upkeep=None)
        found = takes(job(uses=(EQ,)), {EQ.card_key(): alone}, proven=False).work
        assert found == pytest.approx(BLOCKS * 100e-6 + HANDLING * SECONDS)

    def test_on_cores_that_are_not_alike_all_of_them_are_at_it(self, desktop):
        """Of 20, all busy: 12 of them in pairs, 13 other real ones of which 6 were measured, 8 slow."""
        known = CARDS[EQ.card_key()]
        up = msgspec.structs.replace(known.upkeep, beside=1.3, others=6, paired=1.6, slower=2.0)
        found = takes(job(uses=(EQ,)), {EQ.card_key(): msgspec.structs.replace(known, upkeep=up)}, proven=False).work
        more = 0.3 + 0.6 * 12 / 20 + 1.0 * 8 / 20
        assert found == pytest.approx((1 + more) * BLOCKS * 100e-6 + HANDLING * SECONDS)

    def test_while_nothing_sounds_it_costs_what_silence_does(self):
        found = takes(job(uses=(EQ,), sounding=HALF), proven=False).work
        assert found == pytest.approx(BLOCKS * (0.5 * 100e-6 + 0.5 * 20e-6) + HANDLING * SECONDS)
        notes = Sounding(notes=(NotePart(0.0, 25.0, 60, 0.5), NotePart(90.0, 500.0, 60, 0.5)))
        found = takes(job(uses=(EQ,), sounding=notes), proven=False).work
        assert found == pytest.approx(BLOCKS * (0.35 * 100e-6 + 0.65 * 20e-6) + HANDLING * SECONDS)

    def test_what_takes_longest_is_begun_first_and_what_is_not_known_last(self):
        made = [job("none", uses=()), job("one", uses=(EQ,)), job("three", uses=(EQ,) * 3), job("two", uses=(EQ,) * 2)]
        takes = efforts(Prepared(None, made, [], None), CARDS, proven=False)
        left = TimeLeft(takes, CARDS)
        assert [each.strip.id for each in left.longest_first(made)] == ["three", "two", "one", "none"]
        assert [each.strip.id for each in left.longest_first([*made, job("new")])][-1] in ("none", "new")

    def test_a_stretch_is_compared_with_its_whole_track(self):
        of = msgspec.structs.replace(job(), samples=SAMPLES // 10, stretch=(0.0, 10.0), whole=ALL)
        once = BLOCKS * 400e-6 + HANDLING * SECONDS
        assert takes(of).work == pytest.approx(2.2 * once)
        assert takes(of, proven=False).work == pytest.approx(0.1 * once)

    def test_without_a_card_it_is_not_known(self):
        of = takes(job(), {EQ.card_key(): CARDS[EQ.card_key()]}, proven=False)
        assert not of.known and of.work == pytest.approx(BLOCKS * 100e-6 + HANDLING * SECONDS)
        empty = msgspec.structs.replace(CARDS[EQ.card_key()], cells=())
        assert not takes(job(uses=(EQ,)), {EQ.card_key(): empty}).known

    def test_what_feeds_a_bus_is_rendered_on_all_cores(self):
        def stage(own, *uses):
            return Stage(Strip(own, own, "track"), uses, ALL, (Feed("bus", 1.0),))

        eq, both = BLOCKS * 100e-6 + HANDLING * SECONDS, BLOCKS * 400e-6 + HANDLING * SECONDS
        four = tuple(stage(each, EQ) for each in "abcd")
        found = takes(job("bus", (EQ,), Sounding(), before=four), proven=False)
        assert found == pytest.approx((5 * eq, 2.5 * eq, True))
        # One long chain and the bus behind it go one after the other.
        long = takes(job("bus", (EQ,), Sounding(), before=(stage("a", EQ, COMPRESSOR), stage("b"))), proven=False)
        assert long.alone == pytest.approx(both + eq) and long.work > long.alone

    def test_a_shared_bus_is_rendered_as_it_is_and_as_it_was_and_stems_together_once(self):
        bus = Strip("bus", "bus", "bus", inserts=(EQ,))
        was = track("a", "eq", output="bus"), track("b", "eq", output="bus")
        now = tuple(msgspec.structs.replace(strip, inserts=()) for strip in was)
        check = Check(bus, was, now, (ALL, ALL), RATE, 256)
        whole = job("all", (EQ,))
        found = efforts(Prepared(None, [], [], None, [check], together=Together(whole, ())), CARDS)
        # Twice two tracks and where they meet; the plugin on two tracks before, on one bus after.
        assert found["bus"].work == pytest.approx(3 * BLOCKS * 100e-6 + 6 * HANDLING * SECONDS)
        assert found["all"].work == pytest.approx(BLOCKS * 100e-6 + HANDLING * SECONDS)


class Clock:
    now = 0.0

    def __call__(self):
        return self.now


class TestAsItGoes:
    def left(self, *efforts, cards=None):
        self.clock = Clock()
        return TimeLeft({str(k): of for k, of in enumerate(efforts)}, cards or {}, self.clock)

    def step(self, own, share, **more):
        return Step(job(own), "renders", share, **more)

    def test_before_it_begins_it_is_all_work_on_all_cores_or_the_longest_thing(self):
        assert self.left(Effort(60, 60), Effort(60, 60), Effort(30, 30)).seconds() == pytest.approx(75)
        assert self.left(Effort(60, 60), Effort(10, 10)).seconds() == pytest.approx(60)
        assert self.left(Effort(60, 30)).seconds() == pytest.approx(30)
        assert self.left().seconds() == 0.0

    def test_as_it_goes_it_is_corrected(self):
        left = self.left(Effort(1000, 500))
        # Half as quick as the cards have it: so it is believed more and more.
        for share in (0.01, 0.1, 0.5):
            self.clock.now = 1000 * share
            left.take(self.step("0", share))
            pace = (1000 * share + 2 * TRUSTED) / (1000 * share + TRUSTED)
            assert left.seconds() == pytest.approx(1000 * (1 - share) / pace)
        assert left.seconds() == pytest.approx(500, rel=0.03)
        # A second rendering of the same begins with less: what was done stays done.
        left.take(self.step("0", 0.4))
        assert left.seconds() == pytest.approx(500, rel=0.03)

    def test_what_was_there_or_ends_early_counts_no_more(self):
        left = self.left(Effort(50, 50), Effort(50, 50), Effort(50, 50))
        there = Rendered("0", "a.wav", "", 1.0, -3.0, 0, True, 0)
        left.take(Step(job("0"), "there already", 1.0, there))
        assert left.seconds() == pytest.approx(50)
        left.take(self.step("1", 0.5))
        left.take(Step(job("1"), "ended", 1.0, trouble="No."))
        assert left.seconds() == pytest.approx(50)
        left.take(self.step("2", 0.5))
        self.clock.now = 25.0
        left.take(Step(job("2"), "rendered", 1.0, there))
        assert left.seconds() == 0.0
        # Nor does what it was not asked of.
        left.take(self.step("x", 0.5))
        assert left.seconds() == 0.0

    def test_while_it_stands_still_no_time_goes_by(self):
        left = self.left(Effort(100, 50))
        left.take(self.step("0", 0.5))
        self.clock.now = 25.0
        before = left.seconds()
        left.stand_still(True)
        self.clock.now = 1000.0
        left.stand_still(True)
        assert left.seconds() == before
        self.clock.now = 2000.0
        left.stand_still(False)
        left.stand_still(False)
        assert left.seconds() == before
        self.clock.now = 2030.0
        assert left.seconds() > before

    def test_of_what_has_no_card_it_is_told_once_something_is_done(self):
        left = self.left(Effort(10, 10, False), Effort(10, 10, True))
        assert left.seconds() is None
        self.clock.now = 100.0
        assert left.seconds() is None
        left.take(self.step("0", 0.5))
        # 5 of 20 in 100 seconds, on two cores; and the longest of what is left goes on alone.
        assert left.seconds() == pytest.approx(2 * 10 / 0.05)
        left.take(self.step("0", 1.0))
        left.take(self.step("1", 0.5))
        # All that is left is known.
        assert left.seconds() == pytest.approx(2 * 5 / ((15 + 2 * TRUSTED) / (100 + TRUSTED)))

    def test_how_much_of_a_mix_is_rendered_is_known_once_it_begins(self):
        left = TimeLeft({MIX.id: Effort(known=False)}, CARDS, clock := Clock())
        assert left.seconds() is None
        whole = msgspec.structs.replace(job(uses=(EQ,)), strip=MIX)
        work = effort(iter(lasting._passes(whole, False)), CARDS).work
        left.take(Step(whole, "compares", 0.0))
        assert left.seconds() == pytest.approx(work)
        left.take(Step(whole, "compares", 0.5))
        assert left.seconds() == pytest.approx(work / ((work / 2 + 2 * TRUSTED) / TRUSTED))
        # What differs may be rendered once more, as far as to where.
        again = msgspec.structs.replace(whole, samples=SAMPLES // 4)
        left.take(Step(again, "compares again", 0.0))
        clock.now = work
        assert left.seconds() == pytest.approx(0.25 * work * 2 / ((work + 2 * TRUSTED) / (work + TRUSTED)))
        left.take(Step(again, "compares again", 1.0))
        assert left.seconds() == 0.0
