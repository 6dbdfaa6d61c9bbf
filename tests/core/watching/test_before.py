"""What is kept of a host to compare with later."""

from __future__ import annotations

from nimbleload.core.told.watching import blocks_before, by_name, change_words, table
from nimbleload.core.watching.before import Before
from nimbleload.core.watching.blocks import see
from tests.helpers.recordings import blocks, recording, thread

PERIOD = 5_333_333


def seen(busy, period=PERIOD, owner=1):
    stretches = blocks(period, 400, list(busy))
    looks = [(at, owner) for begin, end in stretches for at in range(begin + 50_000, end, 100_000)]
    of = recording(thread(1, stretches, looks=looks, weight=100_000), files=["/lv2/Tar.lv2", "/lv2/Mist.lv2"])
    return see(of._replace(begun=1_000_000_000))


def before(of):
    return Before.of(of, by_name(table(of, {})))


def test_how_full_blocks_were_stands_beside_how_full_they_are():
    heavy, light = seen([3_000_000] * 49 + [6_000_000]), seen([1_500_000])
    assert blocks_before(before(heavy), light) == (
        "Blocks before: typical 56 %, one in a hundred 169 %, 7 late in 2 s; "
        "now typical 28 %, one in a hundred 28 %, none late in 2 s."
    )
    other = seen([1_500_000], 2 * PERIOD)
    assert blocks_before(before(heavy), other).startswith("Blocks of 5.33 ms, as of 256 samples at 48 kHz before: ")


def test_without_blocks_then_or_now_nothing_is_said_of_them():
    silent, heavy = see(recording(thread(1, [(0, 10), (1_000_000, 1_000_010)]))), seen([3_000_000])
    assert blocks_before(before(silent), heavy) == blocks_before(before(heavy), silent) == ""


def test_who_took_what_is_held_against_who_takes_it_now():
    light, other = seen([1_500_000]), seen([3_000_000], owner=2)
    found = before(seen([3_000_000])).changes(by_name(table(light, {})), light)
    assert [(c.name, round(c.before, 2), round(c.after, 2), c.is_real) for c in found] == [("Tar", 0.56, 0.28, True)]
    found = before(seen([3_000_000])).changes(by_name(table(other, {})), other)
    assert change_words(found) == "Against before +0.0 % of one core: Mist +56 %, Tar −56 %."
