"""What is kept of hours of watching: each second and each dropout once, whenever it was looked at."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.watching import history as history_
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.history import REACTION, History, past_of
from tests.helpers.rare import BEGUN, PERIOD, rare
from tests.helpers.recordings import recording, thread

LONG = (1_000_000, 6_000_000)
DAY = 1_700_000_000.0


def looked(recording, every=1.0, window=10.0, marks=()):
    """The history of a recording that is looked at again and again while it is made, in the last seconds each time."""
    history, at = History(), recording.begun
    marks = sorted(marks)
    while at < recording.ended:
        at = min(at + round(every * 1e9), recording.ended)
        while marks and marks[0] <= at:
            history.mark(marks.pop(0))
        threads = tuple(
            each._replace(
                switch_time=each.switch_time[: np.searchsorted(each.switch_time, at)],
                switch_kind=each.switch_kind[: np.searchsorted(each.switch_time, at)],
                switch_core=each.switch_core[: np.searchsorted(each.switch_time, at)],
                look_time=each.look_time[: np.searchsorted(each.look_time, at)],
                look_owner=each.look_owner[: np.searchsorted(each.look_time, at)],
                look_weight=each.look_weight[: np.searchsorted(each.look_time, at)],
            )
            for each in recording.threads
        )
        until = recording._replace(threads=threads, ended=at)
        history.take(see(until.last(window)), DAY, last=at == recording.ended)
    return history.past


@pytest.mark.parametrize(("seed", "every"), [(0, 1.0), (1, 1.0), (2, 4.0), (3, 0.7)])
def test_whoever_looks_again_and_again_sees_what_the_whole_tells(seed, every):
    rng = np.random.default_rng(seed)
    late = np.flatnonzero(rng.random(6000) < 0.004)
    # Some go on for as long as four seconds.
    late = sorted({*late.tolist(), *range(2000, 2000 + 800 * (seed % 2), 30)})
    made = rare(6000, late, LONG)
    found, whole = looked(made, every), past_of(see(made), DAY)
    assert found.begun == whole.begun and found.ended == whole.ended
    assert found.blocks == pytest.approx(whole.blocks, abs=2)
    assert found.late.sum() == whole.late.sum() == see(made).blocks.dropouts
    assert found.played == pytest.approx(30.0, abs=0.05) and found.unseen == 0
    assert (found.typical, found.bad, found.worst) == pytest.approx((whole.typical, whole.bad, whole.worst), abs=0.002)
    assert sum(each.blocks for each in found.dropouts) == sum(each.blocks for each in whole.dropouts)
    if seed % 2 == 0:
        mine, its = ([(each.time, each.blocks) for each in of.dropouts] for of in (found, whole))
        assert [n for _, n in mine] == [n for _, n in its]
        assert [t for t, _ in mine] == pytest.approx([t for t, _ in its], abs=20_000)
    counts = found.why.told()
    assert counts.blocks == found.late.sum() and counts.owner == 2


def test_figures_of_all_blocks_are_those_of_their_loads(monkeypatch):
    of = see(rare(3000, range(50, 3000, 97), LONG))
    past = past_of(of)
    load = of.blocks.load
    assert past.blocks == len(load) and past.worst == load.max()
    assert past.typical == pytest.approx(np.median(load), abs=0.001)
    assert past.bad == pytest.approx(np.percentile(load, 99, method="higher"), abs=0.001)
    second = (of.blocks.start - past.begun) // 10**9
    assert past.second.tolist() == [past.begun + k * 10**9 for k in np.unique(second)]
    assert past.fullest.tolist() == [load[second == k].max() for k in np.unique(second)]
    assert past.late.tolist() == [of.blocks.late[second == k].sum() for k in np.unique(second)]
    monkeypatch.setattr(history_, "SECONDS", 5)
    assert past_of(of).second.tolist() == past.second.tolist()[-5:]


def test_when_one_came_is_told_by_the_clock_and_by_what_was_played():
    first, last = past_of(see(rare(4000, (1000, 3000), LONG)), DAY).dropouts
    assert first.day == pytest.approx(DAY + (BEGUN + 1000 * PERIOD) / 1e9, abs=0.01)
    assert (first.played, last.played) == pytest.approx((5.0, 15.0), abs=0.05)
    assert past_of(see(rare(2000, (1000,), LONG))).dropouts[0].day == 0.0


def test_whoever_hears_one_is_told_whether_a_block_was_late_before():
    late = BEGUN + 2000 * PERIOD
    marks = [late - 10**8, late + 3 * 10**8, late + round((REACTION - 0.1) * 1e9), late + round((REACTION + 0.1) * 1e9)]
    past = looked(rare(4000, (2000,), LONG), marks=marks)
    assert [each.is_dropout for each in past.marks] == [False, True, True, False]
    assert past.marks[1].fullest > 1 > past.marks[0].fullest > 0
    assert past.marks[1].day == pytest.approx(DAY + marks[1] / 1e9)
    assert past.covered == pytest.approx(REACTION / 20, rel=0.05)
    # In the middle of a long one, whose beginning was long ago.
    past = looked(rare(4000, range(1000, 2000, 20), LONG), marks=[BEGUN + 1900 * PERIOD])
    assert past.marks[0].is_dropout


def test_what_was_not_looked_at_is_counted_as_such():
    made = rare(8000, (1000, 4000, 7000), LONG)
    history = History()
    history.take(see(made._replace(ended=BEGUN + 2000 * PERIOD).last(10.0)))
    history.take(see(made.last(10.0)), last=True)
    past = history.past
    assert len(past.dropouts) < 3 and past.unseen == pytest.approx(30.0 - 8.5, abs=0.1)
    # A host that stood still, or only a little that was recorded, is no such time.
    assert looked(made).unseen == 0


def test_seconds_in_which_no_cycle_is_found_are_told_unless_the_host_stood_still():
    """A thread that computes for as long as it is let, now and then: nobody can say what its blocks are."""
    rng = np.random.default_rng(3)
    begin = np.cumsum(rng.integers(2_000_000, 30_000_000, 800))
    wild = recording(thread(1, [(at, at + 1_500_000) for at in begin.tolist()], "engine"))
    still = recording(thread(1, [(k * 10**9, k * 10**9 + 100_000) for k in range(1, 13)], "engine"))
    assert see(wild).blocks is None and see(still).blocks is None
    seconds = wild.seconds
    for past in (past_of(see(wild)), looked(wild), looked(wild, window=5.0)):
        assert past.blocks == past.unseen == 0 and past.no_cycle == pytest.approx(seconds, abs=0.01)
    drawn = wild.threads[0]._replace(is_real_time=False)
    assert looked(wild._replace(threads=(drawn,))).no_cycle == 0
    assert past_of(see(still)).no_cycle == looked(still).no_cycle == 0


def test_what_a_look_cannot_tell_the_next_one_may():
    """The cycle is found only in records that hold more of it: then all of it is told, and nothing was without."""
    made = rare(4000, (300, 1000, 3000), LONG)
    history = History()
    blind = see(made._replace(ended=BEGUN + 1200 * PERIOD))
    assert history.take(blind._replace(blocks=None)) == ()
    history.mark(BEGUN + 1001 * PERIOD)
    history.take(see(made), last=True)
    past = history.past
    assert len(past.dropouts) == 3 and past.no_cycle == 0 and [each.is_dropout for each in past.marks] == [True]
    # What is not looked at later has nothing to do with it.
    by = 30 * 10**9
    later = made._replace(begun=made.ended + by, ended=made.ended + 2 * by)
    history.take(see(later), last=True)
    assert history.past.unseen == pytest.approx(30.0) and history.past.no_cycle == 0


def test_of_very_many_the_last_are_kept_and_the_others_counted(monkeypatch):
    # Fewer than the thousand of the program, which would take ten seconds to make.
    for name, number in (("DROPOUTS", 200), ("WITH_LANES", 20)):
        monkeypatch.setattr(history_, name, number)
    history = History()
    of = see(rare(3000, range(100, 2900, 70), LONG))
    once = len(past_of(of).dropouts)
    times = 200 // once + 3
    for k in range(times):
        by = (k - times + 1) * 20 * 10**9  # the last time is that of the records
        record = of.recording._replace(begun=of.recording.begun + by, ended=of.recording.ended + by)
        blocks = of.blocks._replace(tick=of.blocks.tick + by, start=of.blocks.start + by, end=of.blocks.end + by)
        history.take(of._replace(recording=record, blocks=blocks), last=True)
    past = history.past
    assert past.number == times * once and len(past.dropouts) == 200
    assert past.forgotten == past.number - 200
    assert past.why.late.blocks == past.late.sum()
    assert all(not each.lanes for each in past.dropouts[:-20]) and all(each.lanes for each in past.dropouts[-20:])


def test_another_buffer_begins_the_figures_anew_and_keeps_the_dropouts():
    history = History()
    of = see(rare(2000, (1000,), LONG))
    history.take(of, last=True)
    by = 20 * 10**9
    half = of.blocks._replace(
        period=0.0025, tick=of.blocks.tick + by, start=of.blocks.start + by, end=of.blocks.end + by,
        load=of.blocks.load * 2,
    )  # fmt: skip
    record = of.recording._replace(begun=of.recording.begun + by, ended=of.recording.ended + by)
    history.take(of._replace(recording=record, blocks=half), last=True)
    past = history.past
    assert past.typical == pytest.approx(2 * np.median(of.blocks.load), abs=0.002)
    assert past.blocks == len(half.load) and past.number == 2
