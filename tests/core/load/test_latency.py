"""Latency: longest paths against a brute force over all paths, and the fewest bypasses against trying all of them."""

from __future__ import annotations

import itertools
import random

import msgspec
import pytest

from nimbleload.core.cards.card import Cell, CostCard
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.latency import bypass_for, latencies, round_trip
from nimbleload.core.session.computer import BUFFER_SIZES, Device, Machine
from nimbleload.core.session.routing import build
from nimbleload.core.session.strips import Send
from nimbleload.core.survey import instant, survey
from tests.helpers.often import often
from tests.helpers.sessions import bus, cards_for, random_session, session, track


def with_latencies(of, rng, values=(0, 0, 32, 100, 500)):
    """The session with a latency told for every plugin."""

    def told(use):
        return msgspec.structs.replace(use, latency=rng.choice(values))

    strips = tuple(
        msgspec.structs.replace(
            s, inserts=tuple(told(u) for u in s.inserts),
            instrument=told(s.instrument) if s.instrument is not None else None,
        )
        for s in of.strips
    )  # fmt: skip
    return msgspec.structs.replace(of, strips=strips)


def longest_by_brute_force(of, off=frozenset()):
    """The latest path of all, found by walking every one of them."""
    own = {s.id: sum(u.latency for u in s.live_uses() if u.id not in off) for s in of.strips}
    fed = {s.id: [*([s.output] if s.output else []), *(x.target for x in s.sends)] for s in of.strips}

    def walk(at):
        return own[at] + max((walk(target) for target in fed[at]), default=0)

    return max(walk(s.id) for s in of.strips)


@pytest.mark.parametrize("seed", range(often(20)))
def test_delay_compensation_waits_for_the_longest_path(seed):
    rng = random.Random(seed)
    of = with_latencies(random_session(rng), rng)
    assert latencies(of, build(of), {}, 256).longest == longest_by_brute_force(of)


@pytest.mark.parametrize("seed", range(often(20)))
def test_the_fewest_bypasses_are_found(seed):
    rng = random.Random(seed)
    of = with_latencies(random_session(rng, tracks=3), rng)
    uses = [u.id for s in of.strips for u in s.live_uses() if u.latency > 0][:9]
    limit = rng.choice((0, 60, 150, 400, 700))
    found = bypass_for(of, build(of), {}, 256, limit)
    assert found.possible
    assert longest_by_brute_force(of, set(found.uses)) == found.left <= limit
    every = [u.id for s in of.strips for u in s.live_uses() if u.latency > 0]
    if len(every) > len(uses):
        return
    for count in range(len(found.uses)):
        for off in itertools.combinations(every, count):
            assert longest_by_brute_force(of, set(off)) > limit


def test_without_compensation_only_the_armed_strips_own_way_counts():
    of = session(
        track("voice", "comp", armed=True, output="b"), track("other", "long", output="b"), bus("b", "lim"),
    )  # fmt: skip
    told = {"comp": 64, "long": 4096, "lim": 256}
    strips = tuple(
        msgspec.structs.replace(
            s, inserts=tuple(msgspec.structs.replace(u, latency=told[u.plugin.identifier]) for u in s.inserts)
        )
        for s in of.strips
    )
    of = msgspec.structs.replace(of, strips=strips)
    found = latencies(of, build(of), {}, 256)
    assert found.way == {"voice": 64 + 256}
    assert found.longest == 4096 + 256
    assert bypass_for(of, build(of), {}, 256, 300, compensated=False).uses == ("voice/comp",)
    assert set(bypass_for(of, build(of), {}, 256, 300).uses) == {"other/long", "voice/comp"}
    assert not bypass_for(of, build(of), {}, 256, -1).possible


def test_what_is_frozen_or_off_adds_no_latency():
    of = session(track("a", "p", sends=(Send("r"),)), bus("r", "q", kind="return"))
    strips = [msgspec.structs.replace(s, inserts=tuple(msgspec.structs.replace(u, latency=100) for u in s.inserts))
              for s in of.strips]  # fmt: skip
    assert latencies(msgspec.structs.replace(of, strips=tuple(strips)), build(of), {}, 256).longest == 200
    strips[0] = msgspec.structs.replace(strips[0], frozen_through=0)
    assert latencies(msgspec.structs.replace(of, strips=tuple(strips)), build(of), {}, 256).longest == 100


def test_what_reports_a_latency_by_the_buffer_size_makes_other_sizes_later():
    of = session(track("a", "p", armed=True), track("b", "q"))
    key = of.strip("a").inserts[0].card_key()
    cells = tuple(Cell(48000, size, "sounding", 1e-5, latency=2 * size) for size in BUFFER_SIZES)
    cards = {**cards_for(of, {"q": 1e-5}), key: CostCard(key, "p", cells, latency=1024)}
    found = {size: latencies(of, build(of), cards, size) for size in BUFFER_SIZES}
    assert {size: each.longest for size, each in found.items()} == {size: 2 * size for size in BUFFER_SIZES}
    assert all(each.vary for each in found.values())
    assert bypass_for(of, build(of), cards, 64, 128).uses == ()
    assert bypass_for(of, build(of), cards, 128, 128).uses == ("a/p",)
    # The row of buffer sizes says of each what it takes there, whichever is chosen.
    for chosen in (64, 1024):
        at = instant(survey(of, Plan(), cards, Machine(4), chosen))
        for rung in at.rungs:
            trip = round_trip(rung.buffer, 48000, of.device, 2 * rung.buffer)
            assert rung.round_trip == pytest.approx(trip)
            # And so does whoever is recorded through it.
            assert rung.heard == pytest.approx(trip)


def test_another_rate_has_its_own_latency():
    key = session(track("a", "p")).strip("a").inserts[0].card_key()
    cells = (Cell(48000, 64, "sounding", 1e-5, latency=240), Cell(96000, 64, "sounding", 1e-5, latency=480))
    card = CostCard(key, "p", cells, latency=480)
    assert [card.latency_at(rate, 256) for rate in (48000, 96000, 44100)] == [240, 480, 480]


def test_the_round_trip_is_the_devices_buffers_and_the_sessions_own():
    assert round_trip(256, 48000, Device(), 0) == pytest.approx(512 / 48000)
    assert round_trip(256, 48000, Device(3, 32, 0.001), 480) == pytest.approx((768 + 32 + 480) / 48000 + 0.001)
