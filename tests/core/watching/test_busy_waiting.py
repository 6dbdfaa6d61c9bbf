"""Hosts whose threads look again and again for work instead of sleeping: what they compute is known."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.told.watching import findings, part_words, table
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.busy_waiting import Open, without_sleep
from nimbleload.core.watching.late import why_late
from nimbleload.core.watching.records import HOST, KERNEL, LIBRARY, WAITING
from nimbleload.core.watching.shares import computing, parts, shares
from tests.helpers.recordings import recording, thread

PERIOD, COUNT, BEGUN = 4_000_000, 300, 1_000_000_000
FILES = ("/plugins/Reed.so", "/plugins/Stone.so")
LOOK, LOOP, CODE = 50_000, 0x5000, 0x90000


def looked(blocks):
    """Looks at a thread that waits in a loop of the host's own, but for pieces of each block (owner, from, to; ns after
    its start); times and owners, and the places in the code."""
    looks, places = [], []
    for start, pieces in blocks:
        for time in range(start + LOOK // 2, start + PERIOD, LOOK):
            owner = next((own for own, begin, end in pieces if begin <= time - start < end), None)
            looks.append((time, HOST if owner is None else owner))
            places.append(LOOP + time % 3 * 8 if owner is None else CODE + len(places) * 64)
    return looks, places


def leader(busy, late=()):
    """The thread that begins blocks: awake for so long in each (ns), and for two periods and a half in some."""
    stretches, free = [], 0
    for k in range(COUNT):
        start = max(BEGUN + k * PERIOD, free)
        free = start + (2 * PERIOD + PERIOD // 2 if k in late else busy)
        if stretches and start == stretches[-1][1]:
            stretches[-1] = (stretches[-1][0], free)
        else:
            stretches.append((start, free))
    return stretches


def spinning(pieces, number=2, mark=0, **options):
    """A thread that is awake from the first to the last, and works in these pieces of each block. Of so many looks at
    its waiting one was known for that before, elsewhere in the code (0: none)."""
    looks, places = looked((BEGUN + k * PERIOD, pieces) for k in range(COUNT))
    if mark:
        looks = [
            (t, WAITING if place < CODE and k % mark == 0 else own)
            for k, ((t, own), place) in enumerate(zip(looks, places, strict=True))
        ]
        places = [place + 4096 if own == WAITING else place for (_, own), place in zip(looks, places, strict=True)]
    return thread(number, [], looks=looks, places=places, weight=LOOK, **options)


WORK = [(1, 100_000, 900_000), (2, 900_000, 1_300_000)]
MIXES = [*WORK, (HOST, 1_300_000, 1_390_000)]


@pytest.mark.parametrize("mark", [0, 1, 3])
def test_a_worker_that_never_sleeps_is_the_engines_and_its_waiting_is_no_work(mark):
    seen = see(recording(thread(1, leader(1_400_000)), spinning(MIXES, mark=mark), files=FILES, begun=BEGUN))
    assert seen.roles == ("engine", "engine") and seen.awake == (1,)
    assert seen.blocks.load == pytest.approx(0.35) and seen.blocks.dropouts == 0
    took = {share.owner: share.core for share in shares(seen)}
    assert took[1] == pytest.approx(0.2, rel=0.02) and took[2] == pytest.approx(0.1, rel=0.02)
    assert took[WAITING] == pytest.approx(2_710_000 / PERIOD, rel=0.02)
    (engine,) = parts(seen)
    assert engine.core == pytest.approx(1.35, rel=0.02) and engine.waiting == pytest.approx(took[WAITING])
    assert computing(seen) == pytest.approx(0.67, rel=0.02)
    assert part_words(engine) == "Audio engine 135 % of one core (67 % work, 68 % busy waiting)"
    said = " ".join(findings(seen, table(seen, {}), [engine], {}))
    assert "Reed takes most: 20 % of one core" in said
    assert "30 % of all that the engine takes beside busy waiting." in said
    assert "1 thread of its engine never sleeps and takes 68 % of one core in busy waiting" in said
    assert "The system took the core" not in said


def test_the_system_takes_a_core_from_real_time_that_never_sleeps():
    worker = spinning(WORK)
    at = np.array([BEGUN + 90 * PERIOD, BEGUN + 90 * PERIOD + 49_000_000], np.int64)
    worker = worker._replace(switch_time=at, switch_kind=np.array([2, 0]), switch_core=np.array([1, 1]))
    of = recording(thread(1, leader(1_400_000)), worker, files=FILES, begun=BEGUN)
    runs = without_sleep(of, worker)
    assert runs.begin.tolist() == [BEGUN, at[1]] and runs.end.tolist() == [at[0], of.ended]
    assert runs.gave_way.tolist() == [True, False] and runs.core.tolist() == [1, 1]
    seen = see(of)
    # All that was computed meanwhile.
    assert np.flatnonzero(seen.blocks.pushed).tolist() == list(range(90, 103))
    said = " ".join(findings(seen, table(seen, {}), parts(seen), {}))
    assert "took the core from it 1 time, for 49.0 ms at most" in said


def test_what_looks_do_not_explain_of_a_thread_that_gives_way_for_ever_is_waiting():
    """It calls the system again and again, where nobody can look: a tenth of its waiting is met."""
    worker = spinning(WORK, mark=1)
    kept = (worker.look_owner > HOST) | (np.arange(len(worker.look_time)) % 10 == 0)
    fields = {name: getattr(worker, name)[kept] for name in ("look_time", "look_owner", "look_weight", "look_place")}
    times = np.arange(BEGUN, BEGUN + COUNT * PERIOD, 100_000)
    fields["switch_time"] = np.stack([times, times + 2_000], axis=1).reshape(-1)
    fields["switch_kind"], fields["switch_core"] = np.tile([2, 0], len(times)), np.ones(2 * len(times), np.int64)
    seen = see(recording(thread(1, leader(1_400_000)), worker._replace(**fields), files=FILES, begun=BEGUN))
    assert not seen.blocks.pushed.any()
    # Of the leader, at which nobody looked.
    assert {share.owner: share.core for share in shares(seen)}[KERNEL] == pytest.approx(0.35, rel=0.01)
    (waiting,) = (share for share in shares(seen) if share.owner == WAITING)
    assert waiting.core == pytest.approx(0.68, rel=0.02) and waiting.low < waiting.core < waiting.high
    assert computing(seen) == pytest.approx(0.65, rel=0.02)


def sometimes_asleep(pieces, until, **options):
    """A worker that is woken with the leader and goes to sleep so long after (ns)."""
    stretches = [(BEGUN + k * PERIOD + 20_000, BEGUN + k * PERIOD + until) for k in range(COUNT)]
    looks, places = looked((BEGUN + k * PERIOD, pieces) for k in range(COUNT))
    kept = [k for k, (time, _) in enumerate(looks) if (time - BEGUN) % PERIOD < until]
    looks, places = [looks[k] for k in kept], [places[k] for k in kept]
    return thread(2, stretches, looks=looks, places=places, weight=LOOK, **options)


def test_waiting_for_more_before_it_sleeps_makes_no_block_longer():
    seen = see(recording(thread(1, leader(1_400_000)), sometimes_asleep(WORK, 2_600_000), files=FILES, begun=BEGUN))
    assert seen.roles == ("engine", "engine") and seen.awake == ()
    assert seen.blocks.load == pytest.approx(0.35)
    assert {share.owner: share.core for share in shares(seen)}[1] == pytest.approx(0.2, rel=0.02)
    (waiting,) = (share for share in shares(seen) if share.owner == WAITING)
    # From the end of the work on, and a little before it begins.
    assert waiting.core == pytest.approx(1_370_000 / PERIOD, rel=0.05)


def test_a_plugin_that_computes_on_when_the_leader_sleeps_does():
    """A host that computes one block while the device takes the one before."""
    pieces = [(1, 100_000, 2_000_000), (2, 2_000_000, 2_590_000)]
    seen = see(recording(thread(1, leader(200_000)), sometimes_asleep(pieces, 2_600_000), files=FILES, begun=BEGUN))
    assert seen.blocks.load == pytest.approx(0.65)
    assert WAITING not in {share.owner for share in shares(seen)}


def test_where_plugins_take_most_of_it_the_rest_is_no_waiting():
    pieces = [(1, 100_000, 1_000_000), (2, 1_000_000, 2_400_000)]
    seen = see(recording(thread(1, leader(200_000)), sometimes_asleep(pieces, 2_600_000), files=FILES, begun=BEGUN))
    assert seen.blocks.load == pytest.approx(0.65)


def test_a_block_goes_on_to_where_a_plugin_was_met_last():
    """The leader sleeps before its worker is through, which then waits for more for a while."""
    worker = sometimes_asleep([(1, 100_000, 900_000)], 2_000_000)
    seen = see(recording(thread(1, leader(700_000)), worker, files=FILES, begun=BEGUN))
    assert seen.blocks.load == pytest.approx(875_000 / PERIOD)
    # Where it finds nothing to wait for it sleeps at once, before the leader does.
    short = [(begin, min(end, begin + 580_000)) if k % 3 == 0 else (begin, end) for k, (begin, end) in enumerate(
        zip(worker.switch_time[::2].tolist(), worker.switch_time[1::2].tolist(), strict=True))]  # fmt: skip
    worker = worker._replace(switch_time=np.array(short).reshape(-1))
    seen = see(recording(thread(1, leader(700_000)), worker, files=FILES, begun=BEGUN))
    took = seen.turns[1].end - seen.turns[1].begin
    assert set(took[::3].tolist()) == {580_000} and set(took[1::3].tolist()) == {855_000}


def test_a_client_of_a_server_computes_when_the_server_sleeps():
    pieces = [(1, 100_000, 900_000)]
    client = sometimes_asleep(pieces, 2_600_000, process=2)
    seen = see(recording(thread(1, leader(1_000_000)), client, files=FILES, begun=BEGUN))
    assert seen.blocks.load == pytest.approx(0.65) and WAITING not in {share.owner for share in shares(seen)}


def all_the_time(owner, waits=0):
    """A thread that computes on, block or no block; so many looks at it met it waiting."""
    times = range(BEGUN + LOOK // 2, BEGUN + COUNT * PERIOD, LOOK)
    looks = [(time, WAITING if k < waits else owner) for k, time in enumerate(times)]
    return thread(2, [(BEGUN, BEGUN + COUNT * PERIOD)], looks=looks, places=range(CODE, CODE + len(looks)), weight=LOOK)


def test_what_is_always_busy_or_hardly_ever_awake_is_not_the_engines():
    seldom = [(BEGUN + k * PERIOD, BEGUN + k * PERIOD + LOOK) for k in range(0, COUNT, 8)]
    looks = [(begin + 10, owner) for begin, _ in seldom for owner in (1, WAITING)]
    asleep = thread(2, seldom, looks=looks, places=[CODE] * len(looks), weight=LOOK, real_time=False)
    for other in (all_the_time(1), all_the_time(HOST, waits=100), asleep):
        other = other._replace(is_real_time=False)
        seen = see(recording(thread(1, leader(1_400_000)), other, files=FILES, begun=BEGUN))
        assert seen.roles == ("engine", "other") and seen.awake == ()


def in_even_steps(every, begin, busy=400_000, owner=HOST):
    """What wakes every so many ns, from so much after the first block on: when it has a core, and looks at it."""
    stretches = [(at, at + busy) for at in range(BEGUN + begin, BEGUN + COUNT * PERIOD, every)]
    looks = [(at + 100_000, owner) for at, _ in stretches]
    return thread(3, stretches, "drawing", False, looks=looks, weight=busy // 2)


@pytest.mark.parametrize(
    ("every", "begin", "owner"),
    [(3 * PERIOD, 500_000, HOST), (3 * PERIOD, 500_000, 1), (PERIOD, 2_000_000, HOST), (3_700_000, 0, 1),
     (3 * PERIOD, PERIOD - 430_000, HOST)],
    ids=["three blocks", "three blocks, a plugin's window", "a block", "unlike any", "ends just before"],
)
def test_a_window_that_draws_in_even_steps_is_not_the_engines_outside_real_time(every, begin, owner):
    """The engine's own steps are not so even: others take its core."""
    rng = np.random.default_rng(3)
    late = rng.exponential(60_000, COUNT).astype(int)
    stretches = [(begin + by, end + by) for (begin, end), by in zip(leader(1_400_000), late.tolist(), strict=True)]
    looks = [(begin + 20_000 + k * LOOK, 2) for begin, _ in stretches for k in range(27)]
    host = thread(2, stretches, "audio", False, looks=looks, weight=LOOK)
    seen = see(recording(host, in_even_steps(every, begin, owner=owner), files=FILES))
    names = [each.name for each in seen.recording.threads]
    assert names[seen.leader] == "audio"
    # One that keeps a whole number of blocks and computes plugins may well compute ahead.
    assert seen.roles[1] == ("ahead" if (owner, begin) == (1, 500_000) else "other")
    assert seen.blocks.period * 1e9 == pytest.approx(PERIOD, rel=1e-3)
    assert seen.blocks.load.max() < 0.4


def test_a_worker_that_wakes_in_every_block_does_not_compute_ahead():
    """Every second time it is late by much, since it shares its core: its even steps are two blocks long."""
    work = [(at + (k % 2) * 900_000 + 20_000, at + (k % 2) * 900_000 + 420_000)
            for k, (at, _) in enumerate(leader(1_400_000))]  # fmt: skip
    worker = thread(2, work, real_time=False, looks=[(begin + 100_000, 1) for begin, _ in work], weight=400_000)
    first = thread(1, leader(1_400_000), real_time=False, looks=[(at + 9, 2) for at, _ in leader(1_400_000)])
    assert see(recording(first, worker, files=FILES)).roles == ("engine", "engine")


def test_what_is_met_all_over_the_hosts_code_does_not_wait():
    """A worker that mixes after its plugins, when the leader is through."""
    pieces = [(1, 100_000, 900_000), (HOST, 900_000, 2_590_000)]
    seen = see(recording(thread(1, leader(1_000_000)), sometimes_asleep(pieces, 2_600_000), files=FILES, begun=BEGUN))
    assert seen.blocks.load == pytest.approx(0.65)
    assert WAITING not in {share.owner for share in shares(seen)}


@pytest.mark.parametrize("owner", [HOST, LIBRARY])
def test_a_thread_that_computes_no_plugins_is_not_told_to_wait(owner):
    """A window that draws in a small loop of its own, or another program's thread."""
    looks, places = looked((BEGUN + k * PERIOD, []) for k in range(COUNT))
    window = thread(2, [(BEGUN, BEGUN + COUNT * PERIOD)], looks=[(t, owner) for t, _ in looks], places=places)
    seen = see(recording(thread(1, leader(1_400_000)), window, files=FILES, begun=BEGUN))
    assert seen.roles == ("engine", "other") and seen.awake == ()
    assert WAITING not in {share.owner for share in shares(seen, None)}


def waits_itself(late, owner):
    """The leader works for 0.4 of each block and waits on for a tenth; in late ones somebody computes meanwhile, or
    nobody."""
    looks = []
    for k, start in ((k, begin) for k, (begin, _) in enumerate(leader(2_000_000, late))):
        length = leader(2_000_000, late)[k][1] - start
        looks += [(t, 1 if t - start < 1_600_000 else WAITING) for t in range(start + LOOK // 2, start + length, LOOK)]
    first = thread(1, leader(2_000_000, late), looks=looks, places=[CODE] * len(looks), weight=LOOK)
    stretches, worked = [], []
    for begin, end in leader(2_000_000, late):
        until = end - 10_000 if owner else begin + 800_000
        stretches.append((begin + 20_000, until))
        worked += [(t, 2) for t in range(begin + 30_000, until, LOOK)]
    second = thread(2, stretches, looks=worked, places=[CODE] * len(worked), weight=LOOK)
    return see(recording(first, second, files=FILES, begun=BEGUN))


def test_late_blocks_in_which_nobody_computes_have_waited_whoever_has_a_core():
    late = why_late(waits_itself(range(20, COUNT - 20, 25), False))
    assert late.waited > 0 and late.longer == 0


def test_a_late_block_is_made_so_by_whom_all_wait_for_and_not_by_waiting():
    late = why_late(waits_itself(range(20, COUNT - 20, 25), True))
    assert late.longer > 0 and late.waited == 0 and late.owner == 2


def test_a_thread_that_never_sleeps_says_nothing_of_the_systems_time():
    """Workers that give way for ever, and a leader that takes longer in late blocks."""
    late = range(20, COUNT - 20, 25)
    first = leader(1_400_000, late)
    looks = [(at, 1 if at < begin + 1_400_000 else HOST) for begin, end in first for at in range(begin, end, LOOK)]
    worker = spinning(WORK, mark=1)
    kept = worker.look_owner > HOST
    kept[::20] = True
    fields = {name: getattr(worker, name)[kept] for name in ("look_time", "look_owner", "look_weight", "look_place")}
    made = thread(1, first, looks=looks, places=[CODE] * len(looks), weight=LOOK)
    workers = (worker._replace(number=number, **fields) for number in (2, 3, 4))
    seen = see(recording(made, *workers, files=FILES, begun=BEGUN))
    assert seen.awake == (1, 2, 3)
    assert why_late(seen).owner == HOST


def test_without_a_block_nothing_is_over():
    times = np.array([3, 9, 12, 40])
    assert Open(np.array([], np.int64), np.array([], np.int64)).over(times).tolist() == times.tolist()
    assert Open(np.array([5, 10]), np.array([8, 14])).over(times).tolist() == [3, 8, 14, 14]
