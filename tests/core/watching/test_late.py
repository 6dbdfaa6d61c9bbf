"""Why blocks were late, in recordings of hosts of which it is known."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, late_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import began_late, why_late
from nimbleload.core.watching.records import HOST
from nimbleload.core.watching.shares import KERNEL
from tests.helpers.held_up import host
from tests.helpers.recordings import recording, thread

PERIOD, COUNT, EVERY, LOOK = 5_000_000, 400, 25, 100_000
FILES = ("/plugins/Reed.so", "/plugins/Stone.so")


def seen(usual, seldom, begun=0, apart=0, looks=LOOK, every=EVERY):
    """A host in one thread: in each block owners compute one after the other for so long (owner, ns), and otherwise in
    every so manieth, which begins so much later; there it gives way for a while, if `apart` says for how long."""
    stretches, looked, gave_way = [], [], []
    free = 0
    for k in range(COUNT):
        is_odd = k % every == every - 1
        at = max(1_000_000_000 + k * PERIOD + (begun if is_odd else 0), free)
        start = at
        for owner, taken in seldom if is_odd else usual:
            looked += [(time, owner) for time in range(at + looks // 2, at + taken, looks)]
            at += taken
        if is_odd and apart:
            gave_way.append(len(stretches))
            stretches += [(start, start + 100_000), (start + 100_000 + apart, at + apart)]
            free = at + apart
        elif stretches and start == free:
            stretches[-1] = (stretches[-1][0], at)
            free = at
        else:
            stretches.append((start, at))
            free = at
    return see(recording(thread(1, stretches, looks=looked, gave_way=gave_way, weight=looks), files=FILES))


USUAL = [(1, 1_000_000), (2, 1_000_000), (HOST, 300_000)]


def test_the_plugin_that_bursts_is_named():
    of = seen(USUAL, [(1, 1_000_000), (2, 5_000_000), (HOST, 300_000)])
    found = why_late(of)
    assert (found.after, found.woken, found.pushed) == (0, 0, 0) and found.longer == of.blocks.dropouts > 10
    assert found.owner == 2 and found.part == pytest.approx(1.0, abs=0.01) and not found.alike
    (words,) = late_words(of, {})
    told = "they took longer by themselves, 100 % of it in Stone"
    assert words == f"Why {found.longer} blocks were late: {told}."
    assert words in findings(of, [], [], {})
    assert words.replace("Stone", "Stone EQ") in findings(of, [], [], {FILES[1]: "Stone EQ"})


def test_a_single_block_is_told_of_as_one():
    of = seen(USUAL, [(1, 1_000_000), (2, 5_000_000), (HOST, 300_000)], every=300)
    assert late_words(of, {}) == ["Why a block was late: it took longer by itself, 100 % of it in Stone."]


def test_of_two_that_take_longer_the_larger_part_is_told():
    of = seen(USUAL, [(1, 2_000_000), (2, 4_000_000), (HOST, 300_000)])
    assert why_late(of).owner == 2 and why_late(of).part == pytest.approx(0.75, abs=0.02)
    # Of two that take about as much, neither is named.
    of = seen(USUAL, [(1, 3_000_000), (2, 3_000_000), (HOST, 300_000)])
    assert why_late(of).owner is None
    assert late_words(of, {})[0].endswith("by whom is not clear from so few looks.")


def test_cores_that_are_slowed_down_make_all_longer_alike():
    of = seen(USUAL, [(owner, round(2.4 * taken)) for owner, taken in USUAL])
    found = why_late(of)
    assert found.alike and found.owner is None and found.longer == found.blocks
    assert "all in them alike: cores were slowed down or taken away" in late_words(of, {})[0]


def test_a_block_that_begins_late_got_no_core_in_time():
    of = seen([(1, 3_000_000)], [(1, 3_000_000)], begun=2_500_000)
    found = why_late(of)
    assert found.woken == of.blocks.dropouts > 10 and found.blocks == found.woken
    assert late_words(of, {}) == [
        f"Why {found.woken} blocks were late: they began late, since no core was to be had in time."
    ]


def test_one_that_had_to_give_way_is_told_so():
    of = seen([(1, 3_000_000)], [(1, 3_000_000)], apart=2_500_000)
    found = why_late(of)
    assert found.pushed == of.blocks.dropouts > 10 and found.longer == 0
    assert late_words(of, {}) == [f"Why {found.pushed} blocks were late: they had to give way to other threads."]


@pytest.mark.parametrize("looks", [6_000_000, 12_000_000])
def test_few_looks_or_none_name_nobody(looks):
    """Least of all the system, since it is what is left."""
    of = seen(USUAL, [(1, 1_000_000), (2, 5_000_000), (HOST, 300_000)], looks=looks)
    assert why_late(of).owner is None and why_late(of).longer > 0
    own = of.recording.threads[0]
    at = own.switch_time[:1] + 10_000
    once = own._replace(look_time=at, look_owner=np.array([1]), look_weight=np.array([looks]))
    found = why_late(see(of.recording._replace(threads=(once,))))
    assert found.owner is None and found.longer > 0


def test_without_late_blocks_nothing_is_said():
    of = seen(USUAL, USUAL)
    assert why_late(of) is None and late_words(of, {}) == []


@pytest.mark.parametrize("seed", range(4))
def test_every_late_block_has_one_reason(seed):
    made = host(seed, 1_000_000, 2_500_000)
    of = see(recording(thread(1, made.leader), thread(2, made.worker)))
    found = why_late(of)
    assert found.blocks == of.blocks.dropouts
    assert found.after > 0 and found.woken > 0 and found.longer > 0
    words = late_words(of, {})[0]
    assert all(f"{number} " in words for number in (found.blocks, found.after, found.woken, found.longer))


def waiting(wait, meanwhile=0.0, longer=0, usual=0):
    """A leader and its worker, which computes for 1 ms and then, in every so manieth block, waits before it computes
    for 0.2 ms more, and so much longer; a thread of the window that computes for this part of the wait. In all others
    it waits as well, for the `usual` time."""
    leader, worker, window, free = [], [], [], 0
    for k in range(COUNT):
        at = max(1_000_000_000 + k * PERIOD, free)
        leader.append((at, at + 500_000))
        worker.append((at + 20_000, at + 1_020_000))
        later = at + 1_020_000
        if k % EVERY == EVERY - 1:
            window.append((later + 10_000, later + 10_000 + round(meanwhile * wait)))
            later += wait
            worker.append((later, later + 200_000 + longer))
            later += 200_000 + longer
        elif usual:
            later += usual
            worker.append((later, later + 200_000))
            later += 200_000
        leader.append((later + 10_000, later + 30_000))
        free = later + 35_000
    threads = thread(1, leader), thread(2, worker), thread(3, window, "drawing", real_time=False, process=3)
    return see(recording(*threads))


def test_who_waits_without_computing_is_told_so_and_who_computed_meanwhile():
    of = waiting(4_500_000)
    found = why_late(of)
    assert found.waited == found.blocks == of.blocks.dropouts > 10 and found.meanwhile is None
    words = f"Why {found.waited} blocks were late: they waited without computing (a lock, a file, another program)"
    assert late_words(of, {}) == [f"{words}."]
    of = waiting(4_500_000, 0.8)
    assert why_late(of).meanwhile == 2
    assert late_words(of, {}) == [f"{words}, while the thread drawing computed."]
    assert why_late(waiting(4_500_000, 0.3)).meanwhile is None
    assert why_late(waiting(1_000_000)) is None


def test_who_waits_in_every_block_is_not_late_by_that():
    found = why_late(waiting(1_200_000, longer=3_300_000, usual=1_200_000))
    assert found.longer == found.blocks > 10


@pytest.mark.parametrize(("waited", "slept"), [(-1.0, False), (0.0, True), (0.005, True), (0.04, False)])
def test_a_block_that_begins_late_was_kept_from_a_core_or_slept_on(waited, slept):
    """Sixteen blocks begin 2.5 ms late each: 40 ms in all."""
    of = seen([(1, 3_000_000)], [(1, 3_000_000)], begun=2_500_000)
    own = of.recording.threads[0]._replace(waited=waited)
    of = of._replace(recording=of.recording._replace(threads=(own,)))
    found = why_late(of)
    assert (found.slept > 10, found.woken > 10) == (slept, not slept)
    assert ("no other thread had their core" in late_words(of, {})[0]) == slept
    assert began_late(of) == (COUNT // EVERY - 1, pytest.approx(0.0025, abs=1e-4), slept)


def test_blocks_that_begin_late_and_end_in_time_are_told_of_too():
    of = seen([(1, 1_000_000)], [(1, 1_000_000)], begun=2_000_000)
    assert why_late(of) is None
    assert f"{COUNT // EVERY - 1} blocks began late, the latest 2.00 ms after it was due." in findings(of, [], [], {})


def test_sleeping_through_what_was_due_is_no_longer_work():
    """Every thirtieth block does not begin at all, and is computed with the next."""
    stretches = []
    for k in range(COUNT):
        if k % 30 != 29:
            at = 1_000_000_000 + k * PERIOD
            stretches.append((at, at + (2_000_000 if k % 30 == 0 and k else 1_000_000)))
    # Thirteen blocks of 5 ms each.
    for waited, slept in ((0.0, True), (0.02, True), (0.05, False)):
        of = see(recording(thread(1, stretches, waited=waited)))
        found = why_late(of)
        assert (found.slept if slept else found.woken) == found.blocks == of.blocks.dropouts > 10


def test_the_systems_own_time_is_told_and_who_asks_it_for_memory():
    """In late blocks the thread has its core for 5 ms more, in which nobody can look."""

    def of(touched, owner=2, usual=0):
        stretches, looks, touches, free = [], [], [], 0
        for k in range(COUNT):
            at = max(1_000_000_000 + k * PERIOD, free)
            looks += [(at + LOOK * j, 1) for j in range(10)]
            is_odd = k % EVERY == EVERY - 1
            free = at + 1_000_000 + (5_000_000 if is_odd else 0)
            touches += [(at + 1_100_000 + j, 32, owner) for j in range(touched if is_odd else 0)]
            touches += [(at + 900_000, 32, 1)] * usual
            stretches.append((at, free))
            free += 1_000
        return see(recording(thread(1, stretches, looks=looks, weight=LOOK, touches=touches), files=FILES))

    found = why_late(of(40))
    assert found.longer == found.blocks > 10 and (found.owner, found.asks) == (KERNEL, 2)
    assert found.part == pytest.approx(1.0, abs=0.05)
    assert late_words(of(40), {})[0].endswith("in the system, for new memory that Stone asks for.")
    assert why_late(of(1)).asks is None and why_late(of(1)).owner == KERNEL
    # As much of it in usual blocks is no reason.
    assert why_late(of(2, usual=2)).asks is None
    assert late_words(of(1), {})[0].endswith("of it in the system, for these threads.")


@pytest.mark.parametrize("part", [0.0, 0.5, 1.0])
def test_whether_one_had_no_core_or_slept_on_is_told_of_each_by_the_readings_around_it(part):
    """The system counts, read ten times a second, how long the thread was ready without a core: in each delay in so
    many of them, and a little at every waking. Over the whole that little is more than all delays."""
    of = seen([(1, 3_000_000)], [(1, 3_000_000)], begun=2_500_000, every=100).recording
    own = of.threads[0]
    # The last block is not looked at.
    odd = [1_000_000_000 + k * PERIOD for k in range(COUNT - 1) if k % 100 == 99]
    ready = odd[: round(part * len(odd))]
    time = np.arange(of.begun, of.ended + 100_000_000, 100_000_000)
    little = np.array([20_000 * ((at - 1_000_000_000) // PERIOD) for at in time]).clip(0)
    waited = little + np.array([sum(2_500_000 for begun in ready if begun + 2_500_000 <= at) for at in time])
    total = float(waited[-1]) / 1e9
    found = why_late(see(of._replace(threads=(own._replace(ready_time=time, ready_sum=waited, waited=total),))))
    each = found.blocks // len(odd)
    assert (found.woken, found.slept) == (each * len(ready), each * (len(odd) - len(ready)))
    # From the whole alone all of them would have had no core.
    assert why_late(see(of._replace(threads=(own._replace(waited=total),)))).slept == 0


def test_delays_between_the_same_readings_are_judged_together():
    """One in four had no core for most of it; the others, as near to it, slept on: so all of them are said to have."""
    of = seen([(1, 3_000_000)], [(1, 3_000_000)], begun=2_500_000, every=10).recording
    own = of.threads[0]
    time = np.arange(of.begun, of.ended + 100_000_000, 100_000_000)
    late = [1_000_000_000 + k * PERIOD for k in range(9, COUNT, 40)]
    waited = np.array([sum(2_000_000 for at in late if at + 2_500_000 <= until) for until in time])
    found = why_late(see(of._replace(threads=(own._replace(ready_time=time, ready_sum=waited),))))
    assert found.slept == found.blocks > 30
