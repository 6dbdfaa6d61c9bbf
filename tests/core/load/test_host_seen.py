"""The host as recordings tell it: hosts that never were, of which everything is known."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.host_seen import buffer_of
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.survey import host_seen, instant, survey
from nimbleload.core.told.host_fit import seen_sentence
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.records import Clocks
from nimbleload.core.watching.shares import computing, parts
from tests.helpers.recordings import blocks, recording, thread
from tests.helpers.sessions import cards_for, session, track

BEGUN, SECONDS = 1_000_000_000, 3.0
FILES = ("/usr/lib/Eq.clap",)
EQ = PluginUse("", PluginRef("test", "eq", "Eq"))


def looks(stretches, parts_of):
    """A look every 10 µs of CPU time: parts of each stretch (owner, ns), one after the other."""
    found = []
    for begin, _ in stretches:
        at = begin
        for owner, ns in parts_of:
            found += [(at + k * 10_000, owner) for k in range(ns // 10_000)]
            at += ns
    return found


def host(buffer, threads=2, eq=400_000, own=100_000, ahead=0):
    """A host at 48 kHz: in each block every thread spends `eq` ns in the plugin and `own` in the host. With `ahead` one
    more thread does so in each so manieth block only."""
    period = buffer * 1_000_000_000 // 48000
    count = int(SECONDS * 1e9 / period)
    made = []
    for number in range(threads):
        stretches = blocks(period, count, [eq + own], BEGUN)
        made.append(thread(number + 1, stretches, f"audio {number}", looks=looks(stretches, ((1, eq), (0, own))),
                           weight=10_000))  # fmt: skip
    if ahead:
        stretches = blocks(ahead * period, count // ahead, [ahead * (eq + own)], BEGUN + 50_000)
        made.append(thread(99, stretches, "ahead", looks=looks(stretches, ((1, ahead * eq), (0, ahead * own))),
                           weight=10_000))  # fmt: skip
    return see(recording(*made, files=FILES, begun=BEGUN))


def of_session(cores=4, each=200e-6):
    """Two tracks with the plugin; it was measured at 200 µs at every size."""
    mix = session(track("one", "eq"), track("two", "eq"))
    return survey(mix, Plan(), cards_for(mix, {"eq": each}), Machine(cores), 256)


def told(*seen, cores=4):
    of = of_session(cores)
    return host_seen(of, instant(of, 1.0), seen, {FILES[0]: EQ})


def test_one_recording_tells_the_hosts_own_time_what_plugins_cost_and_its_threads():
    found = told(host(256))
    # 400 µs of the plugin on each of two threads, where two of 200 µs were predicted; 100 µs of the host's own on each.
    assert found.factor == pytest.approx(2.0, rel=0.03) and found.plugins == 1
    assert 0 < found.factor_error < 0.1
    assert found.own == pytest.approx((200e-6,), rel=0.03) and found.buffers == (256,)
    assert found.strip_overhead == pytest.approx(200e-6 / 3, rel=0.03)  # two tracks and the main output
    assert (found.threads, found.cores_left_free, found.read_ahead) == (2, 2, 0)
    said = seen_sentence(found)
    assert "of each block at 256 samples; it computes on 2 threads." in said
    assert "1 plugin of the session cost 200 % ±" in said


def test_what_it_tells_gives_the_load_that_was_seen():
    of, seen = of_session(cores=2), host(256)
    found = told(seen, cores=2)
    told_host = msgspec.structs.replace(
        of.session.host, strip_overhead=found.strip_overhead, plugin_factor=found.factor,
        cores_left_free=found.cores_left_free,
    )  # fmt: skip
    after = survey(msgspec.structs.replace(of.session, host=told_host), Plan(), of.planned.cards, Machine(2), 256)
    at = instant(after, 1.0)
    work = after.case.rows(at.states).sum() / after.deadline
    assert work == pytest.approx(computing(seen), rel=0.03)


def test_two_recordings_say_whether_they_agree():
    alike = told(host(256), host(1024))
    assert alike.buffers == (256, 1024) and alike.strip_overhead == pytest.approx(200e-6 / 3, rel=0.03)
    assert "differs from buffer to buffer" not in seen_sentence(alike)
    other = told(host(256, own=100_000), host(1024, own=400_000))
    assert other.own == pytest.approx((200e-6, 800e-6), rel=0.03)
    assert "differs from buffer to buffer" in seen_sentence(other)


@pytest.mark.parametrize("ahead", [2, 4, 8, 16])
def test_what_is_computed_ahead_is_seen_and_makes_no_block_longer(ahead):
    seen = host(128, threads=1, eq=200_000, own=50_000, ahead=ahead)
    assert seen.roles == ("engine", "ahead")
    # The live thread alone makes the block: a quarter of a millisecond of 2.67 ms.
    assert seen.blocks.load == pytest.approx(250_000 / (128e9 / 48000), abs=1e-3) and seen.blocks.dropouts == 0
    assert [part.role for part in parts(seen)] == ["engine", "ahead"]
    found = told(seen)
    assert found.read_ahead == 128 * ahead
    assert f"ahead in blocks of {128 * ahead} samples" in seen_sentence(found)
    # Its plugins are the session's, too: 400 µs for a block of 128, where half of that was measured.
    assert found.factor == pytest.approx(2.0, rel=0.1)


def test_without_a_plugin_of_the_session_only_the_host_is_told():
    of = of_session()
    found = host_seen(of, instant(of, 1.0), [host(256)], {})
    assert (found.factor, found.factor_error, found.plugins) == (1.0, 0.0, 0)
    assert "what they cost there is not known" in seen_sentence(found)


def test_recordings_of_another_session_or_without_a_cycle_are_refused():
    with pytest.raises(ValueError, match="another session's"):
        buffer_of(host(300), 48000)
    with pytest.raises(ValueError, match="another session's"):
        buffer_of(host(256), 44100)
    with pytest.raises(ValueError, match="no cycle"):
        buffer_of(see(recording(thread(1, [(1, 2)]))), 48000)
    with pytest.raises(ValueError, match="no recording"):
        told()


def test_a_host_on_slow_cores_is_told_with_the_clock_that_was_least():
    def at(ghz):
        of = host(256)
        clocks = Clocks.of((0,), (4 * 10**9,), [(BEGUN + 10**9, (int(ghz * 1e9),), (0,))])
        return see(of.recording._replace(clocks=clocks))

    found = told(at(3.0), at(1.6))
    assert (found.clock, found.most) == (1.6e9, 4e9)
    assert " Its cores ran at 1.6 GHz then, of 4.0 GHz: at more, all takes less." in seen_sentence(found)
    assert "GHz" not in seen_sentence(told(at(3.9))) and told(host(256)).clock == 0.0
