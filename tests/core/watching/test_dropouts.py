"""Dropouts: late blocks that are heard as one, and what was at work beside them."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest

from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.dropouts import GAP, LONGEST, Beside, dropouts, first_of
from nimbleload.core.watching.records import Heard, Others
from nimbleload.core.watching.server import Server
from tests.helpers.rare import BEGUN, PERIOD, rare
from tests.helpers.recordings import recording, thread

LONG = (1_000_000, 6_000_000)


def at(block):
    return BEGUN + block * PERIOD


@pytest.mark.parametrize("seed", range(6))
def test_late_blocks_are_one_dropout_until_there_is_none_for_a_quarter_of_a_second(seed):
    rng = np.random.default_rng(seed)
    late = np.flatnonzero(rng.random(3000) < rng.choice([0.002, 0.02, 0.1])).tolist()
    of = see(rare(3000, late, LONG))
    found = dropouts(of, 0, of.recording.ended)
    free, late_by = 0, np.zeros(3000)
    for k in range(3000):
        free = max(free, at(k)) + 1_550_000 + LONG[k in late]
        late_by[k] = max(free - at(k) - PERIOD, 0)
    blocks, groups = of.blocks, []
    for place in np.flatnonzero(blocks.late):
        if groups and blocks.start[place] - blocks.end[groups[-1][-1]] <= GAP:
            groups[-1].append(place)
        else:
            groups.append([place])
    assert [(each.time, each.ended) for each in found] == [
        (int(blocks.tick[group[0]]), int(blocks.end[group[-1]])) for group in groups
    ]
    assert sum(each.blocks for each in found) == blocks.dropouts
    for each, group in zip(found, groups, strict=True):
        assert each.load == max(blocks.load[group])
        first, last = round((each.time - BEGUN) / PERIOD), round((each.ended - BEGUN) / PERIOD)
        if all(k - before > 4 for before, k in pairwise([k for k in late if first - 8 < k < last + 8])):
            assert each.by == pytest.approx(late_by[first - 1 : last + 1].max() / 1e9, abs=1e-5)
        assert each.why.late.blocks == each.blocks
        assert each.lanes[0].begin[0] >= each.time and each.lanes[0].thread == 0


def test_a_stretch_of_time_brings_its_own_and_one_that_goes_on_is_waited_for():
    of = see(rare(2000, (400, 410, 800, 1000), LONG))
    times = [each.time for each in dropouts(of, 0, at(2000))]
    assert times == pytest.approx([at(400), at(800), at(1000)], abs=20_000)
    assert [each.time for each in dropouts(of, at(500), at(900))] == pytest.approx([at(800)], abs=20_000)
    assert first_of(of.blocks, 0, at(900)) == at(900)
    assert first_of(of.blocks, 0, at(802)) == pytest.approx(at(800), abs=20_000)
    assert first_of(of.blocks, at(801), at(802)) == at(802)
    assert dropouts(of, 0, first_of(of.blocks, 0, at(802)))[-1].time < at(500)
    # One that never ends is not waited for for ever.
    of = see(rare(2000, range(200, 1900, 20), LONG))
    assert first_of(of.blocks, 0, at(200) + LONGEST - PERIOD) == pytest.approx(at(200), abs=20_000)
    assert first_of(of.blocks, 0, at(200) + LONGEST + PERIOD) == at(200) + LONGEST + PERIOD


def test_who_is_at_work_beside_it_is_told_with_how_often_it_is_otherwise():
    late = (500, 1000, 1500)
    beside = [(at(k), at(k) + 2_000_000) for k in (40, 500, 700, 900, 1000)]
    # In a tenth of a block nobody is at work.
    beside += [(at(k), at(k) + 400_000) for k in (1500, 1600)]
    of = see(rare(2000, late, LONG, sorted(beside)))
    one, two, three = dropouts(of, 0, of.recording.ended)
    usual = float(np.mean([k in (40, 700, 900) for k in range(2000) if k not in late]))
    assert one.beside == two.beside == (Beside("saver", "thread", pytest.approx(usual, rel=0.01)),)
    assert three.beside == ()


def test_programs_are_told_of_the_second_in_which_it_came():
    took = [{"indexer": 0.9 if k in (2, 5) else 0.01, "browser": 0.2} for k in range(11)]
    looks = [Others(at(200 * k), each, {}) for k, each in enumerate(took)]
    of = see(rare(2000, (350, 1500), LONG, others=looks))
    one, two = dropouts(of, 0, of.recording.ended)
    # Between the looks 1 and 2, and 7 and 8.
    assert one.beside == (Beside("indexer", "program", 0.1), Beside("browser", "program", 1.0))
    assert two.beside == (Beside("browser", "program", 1.0),)
    # What ran before the first look, or after the last, is not known.
    of = see(rare(2000, (350, 1500), LONG, others=looks[2:5]))
    assert [each.beside for each in dropouts(of, 0, of.recording.ended)] == [(), ()]


def test_what_a_program_starts_that_ends_at_once_is_told_of_that_second():
    looks = [Others(at(200 * k), {}, {}, {"bar": 0.2} if k in (2, 5) else {"shell": 0.04}) for k in range(11)]
    of = see(rare(2000, (350, 1500), LONG, others=looks))
    one, two = dropouts(of, 0, of.recording.ended)
    assert one.beside == (Beside("bar", "started", 0.1),) and two.beside == ()


def test_devices_are_told_that_interrupt_far_more_often_than_they_usually_do():
    """The audio device itself does in every block, and a disk now and then; a burst of a device that is quiet else
    counts only if it is large enough to matter."""
    usual = {"audio": 2000.0, "disk": 300.0, "wlan": 30.0}
    looks = [Others(at(200 * k), {}, dict(usual)) for k in range(11)]
    for k, name, often in ((2, "wlan", 900.0), (2, "disk", 900.0), (8, "wlan", 210.0), (8, "disk", 1250.0),
                           (9, "disk", 1300.0), (8, "audio", 3000.0), (8, "touch", 190.0)):  # fmt: skip
        looks[k].interrupted[name] = often
    of = see(rare(2000, (350, 1500), LONG, others=looks))
    one, two = dropouts(of, 0, of.recording.ended)
    assert one.beside == (Beside("wlan", "device", 0.0),)
    assert two.beside == (Beside("disk", "device", 0.1),)


def test_what_only_the_server_gave_up_is_a_dropout_too():
    server = Server("JACK", "", 1, 48000, 240, True, -1, -1, ())
    made = rare(2000, (400,), LONG)
    told = [(at(400) + 8_000_000, 0.001), (at(1200) + 1_000_000, 0.002)]
    of = see(made._replace(heard=Heard.of(server, told, ())))
    one, two = dropouts(of, 0, of.recording.ended)
    assert one.xruns == 1 and one.blocks > 0 and one.why is not None
    assert (two.xruns, two.blocks, two.why, two.absent) == (1, 0, None, -1)
    assert two.time == pytest.approx(at(1200), abs=20_000)


def test_without_blocks_there_is_none():
    assert dropouts(see(rare(3, (), LONG)), 0, 10**12) == []


def test_a_host_that_sleeps_over_blocks_is_as_late_as_the_next_it_begins():
    """Nobody begins the blocks 500 to 502: when 503 is due, 500 should have been through long ago."""
    of = see(recording(thread(1, [(at(k), at(k) + 1_000_000) for k in range(1000) if k not in (500, 501, 502)])))
    (one,) = dropouts(of, 0, of.recording.ended)
    assert one.blocks == 3
    assert one.by == pytest.approx((at(503) - at(501) + 1_000_000) / 1e9, abs=1e-5)
