"""Why blocks were late, in recordings of hosts of which it is known."""

from __future__ import annotations

import pytest

from nimbleload.core.told.watching import findings, late_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.late import why_late
from nimbleload.core.watching.records import HOST
from tests.helpers.held_up import host
from tests.helpers.recordings import recording, thread

PERIOD, COUNT, EVERY, LOOK = 5_000_000, 400, 25, 100_000
FILES = ("/plugins/Reed.so", "/plugins/Stone.so")
NAMES = {1: "Reed", 2: "Stone", HOST: "the host itself"}


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
    (words,) = late_words(of, NAMES)
    told = "they took longer by themselves, 100 % of it in Stone"
    assert words == f"Why {found.longer} blocks were late: {told}."
    assert words.replace("Stone", "code that is not known") in findings(of, [], [])


def test_a_single_block_is_told_of_as_one():
    of = seen(USUAL, [(1, 1_000_000), (2, 5_000_000), (HOST, 300_000)], every=300)
    assert late_words(of, NAMES) == ["Why a block was late: it took longer by itself, 100 % of it in Stone."]


def test_of_two_that_take_longer_the_larger_part_is_told():
    of = seen(USUAL, [(1, 2_000_000), (2, 4_000_000), (HOST, 300_000)])
    assert why_late(of).owner == 2 and why_late(of).part == pytest.approx(0.75, abs=0.02)
    # Of two that take about as much, neither is named.
    of = seen(USUAL, [(1, 3_000_000), (2, 3_000_000), (HOST, 300_000)])
    assert why_late(of).owner is None
    assert late_words(of, NAMES)[0].endswith("by whom is not clear from so few looks.")


def test_cores_that_are_slowed_down_make_all_longer_alike():
    of = seen(USUAL, [(owner, round(2.4 * taken)) for owner, taken in USUAL])
    found = why_late(of)
    assert found.alike and found.owner is None and found.longer == found.blocks
    assert "all in them alike: cores were slowed down or taken away" in late_words(of, NAMES)[0]


def test_a_block_that_begins_late_got_no_core_in_time():
    of = seen([(1, 3_000_000)], [(1, 3_000_000)], begun=2_500_000)
    found = why_late(of)
    assert found.woken == of.blocks.dropouts > 10 and found.blocks == found.woken
    assert late_words(of, NAMES) == [
        f"Why {found.woken} blocks were late: they began late, since no core was to be had in time."
    ]


def test_one_that_had_to_give_way_is_told_so():
    of = seen([(1, 3_000_000)], [(1, 3_000_000)], apart=2_500_000)
    found = why_late(of)
    assert found.pushed == of.blocks.dropouts > 10 and found.longer == 0
    assert late_words(of, NAMES) == [f"Why {found.pushed} blocks were late: they had to give way to other threads."]


def test_few_looks_name_nobody():
    of = seen(USUAL, [(1, 1_000_000), (2, 5_000_000), (HOST, 300_000)], looks=6_000_000)
    assert why_late(of).owner is None and why_late(of).longer > 0


def test_without_late_blocks_nothing_is_said():
    of = seen(USUAL, USUAL)
    assert why_late(of) is None and late_words(of, NAMES) == []


@pytest.mark.parametrize("seed", range(4))
def test_every_late_block_has_one_reason(seed):
    made = host(seed, 1_000_000, 2_500_000)
    of = see(recording(thread(1, made.leader), thread(2, made.worker)))
    found = why_late(of)
    assert found.blocks == of.blocks.dropouts
    assert found.after > 0 and found.woken > 0 and found.longer > 0
    words = late_words(of, {})[0]
    assert all(f"{number} " in words for number in (found.blocks, found.after, found.woken, found.longer))
