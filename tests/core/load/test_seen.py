"""From a running host into the model: sessions made of what was seen, and predicted against seen."""

from __future__ import annotations

from types import SimpleNamespace

import msgspec
import numpy as np
import pytest

from nimbleload.core.cards.card import PROVENANCES
from nimbleload.core.decisions.decision import Plan
from nimbleload.core.load.seen import SEEN, session_of
from nimbleload.core.session.computer import Machine
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.survey import compared_with, instant, survey
from nimbleload.core.told.watching import compared_table, compared_words, headline, table, taken_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.server import DEVICE, Client, Server
from tests.helpers.recordings import blocks, recording, thread
from tests.helpers.sessions import cards_for, session, track

PERIOD = 5_333_333  # 256 samples at 48 kHz
COUNT = 400
FILES = ("/usr/lib/Eq.clap", "/usr/lib/Synth.clap")
EQ = PluginUse("", PluginRef("test", "eq", "Eq"))
SYNTH = PluginUse("", PluginRef("test", "synth", "Synth"), family="instrument", voices=8)


def host(eq=0.15, synth=0.25, own=0.1):
    """Two threads: one with the equaliser and the host, one with both plugins; shares of the period each."""

    def looks(begun, *parts):
        """A look every 10 µs of CPU time: from each block's beginning on, part after part."""
        found = []
        for k in range(COUNT):
            at = begun + k * PERIOD
            for owner, share in parts:
                steps = round(share * PERIOD / 10_000)
                found += [(at + j * 10_000, owner) for j in range(steps)]
                at += steps * 10_000
        return found

    begun = 1_000_000_000
    one, other = round((eq + own) * PERIOD), round((eq + synth) * PERIOD)
    return see(
        recording(
            thread(1, blocks(PERIOD, COUNT, [one], begun), "audio 1", looks=looks(begun, (1, eq), (0, own)),
                   weight=10_000),
            thread(2, blocks(PERIOD, COUNT, [other], begun), "audio 2", looks=looks(begun, (1, eq), (2, synth)),
                   weight=10_000),
            files=FILES,
        )
    )  # fmt: skip


SHARED = ("/usr/lib/many.so", "/usr/lib/many.so::1:eq", "/usr/lib/many.so::2:gate", "/usr/lib/many.so::")


def of_one_file(files, *looks):
    """A thread for each of these: in every block so many looks at each owner."""
    begun, step = 1_000_000_000, 10_000
    threads = []
    for number, counts in enumerate(looks, 1):
        steps = [owner for owner, count in counts.items() for _ in range(count)]
        at = [(begun + k * PERIOD + j * step, owner) for k in range(COUNT) for j, owner in enumerate(steps)]
        busy = [step * len(steps)]
        threads.append(thread(number, blocks(PERIOD, COUNT, busy, begun), f"audio {number}", looks=at, weight=step))
    return see(recording(*threads, files=files))


def met(seen):
    """How many looks of each thread and block fell on whom."""
    return [{int(owner): int((each.look_owner == owner).sum()) // COUNT for owner in np.unique(each.look_owner)}
            for each in seen.recording.threads]  # fmt: skip


def test_what_plugins_of_one_file_share_is_that_of_the_only_one_in_a_thread_if_all_are_told_apart():
    looks = {1: 2, 2: 4}, {1: 3, 2: 2, 3: 4, 0: 1}, {1: 5}, {3: 1, 0: 2}
    assert met(of_one_file(SHARED, *looks)) == [{2: 6}, looks[1], looks[2], looks[3]]
    assert met(of_one_file(SHARED[:3], *looks)) == list(looks)
    assert met(of_one_file(("/usr/lib/a.so", "/usr/lib/b.so::", "/usr/lib/c.so"), *looks)) == list(looks)


def test_what_several_share_is_dealt_out_among_them_in_a_session_and_told_in_a_row_of_its_own():
    seen = of_one_file(SHARED[:3], {1: 3, 2: 4, 3: 8})
    names = {SHARED[0]: "many (2 plugins in one file)", SHARED[1]: "Eq"}
    assert [row.name for row in table(seen, names)][:3] == ["2:gate", "Eq", "many, not told which of its plugins"]
    made = session_of(seen, 256, 48000, {SHARED[1]: EQ}, "What ran")
    costs = {card.name: card.cells[0].mean for card in made.cards}
    assert costs == pytest.approx({"Eq": 50e-6, "2:gate": 100e-6}, rel=0.01)
    # Of a file of which none was met alone all of it is one plugin, as before.
    alone = session_of(of_one_file(SHARED[:3], {1: 3}), 256, 48000, {}, "What ran")
    assert [card.name for card in alone.cards] == ["many"]


def test_a_session_of_what_was_seen_loads_as_was_seen():
    seen = host()
    made = session_of(seen, 256, 48000, {FILES[0]: EQ, FILES[1]: SYNTH}, "What ran")
    one, other, main = made.session.strips
    assert [use.label for use in one.inserts] == ["Eq"] and one.name == "audio 1"
    assert other.instrument.label == "Synth" and [use.label for use in other.inserts] == ["Eq"]
    assert main.kind == "main" and made.machine.cores == 2 and made.unknown == ()
    cards = {card.key: card for card in made.cards}
    eq = cards[EQ.card_key()].cells[0]
    assert (eq.provenance, eq.buffer) == ("seen", 256) and eq.mean == pytest.approx(0.15 * 5.333e-3, rel=0.02)
    # The load that follows is the one that was seen: the fuller thread, and the host's own work shared out.
    of = survey(made.session, Plan(), cards, made.machine, made.buffer)
    at = instant(of)
    work = of.case.rows(at.states).sum() / of.deadline
    assert work == pytest.approx(0.15 + 0.15 + 0.25 + 0.1, rel=0.03)
    assert at.rung(256).load == pytest.approx(seen.blocks.typical, abs=0.08)
    assert set(at.shares) == {"seen"}


def test_blocks_computed_in_one_go_with_a_late_one_are_blocks_too():
    """In one block of ten a plugin takes two and a half periods: the two behind it follow without a start of their own,
    and what it takes is dealt out over all of them."""
    took = [round(part * PERIOD) for part in (*[0.2] * 9, 2.5)]
    looks = [(begin + at, 1) for begin, end in blocks(PERIOD, COUNT, took) for at in range(0, end - begin, 10_000)]
    of = see(recording(thread(1, blocks(PERIOD, COUNT, took), looks=looks, weight=10_000), files=FILES))
    assert of.blocks.number == pytest.approx(COUNT, abs=3) and len(of.blocks.load) < 0.85 * COUNT
    (cell,) = session_of(of, 256, 48000, {FILES[0]: EQ}, "late").cards[0].cells
    assert cell.mean == pytest.approx(sum(took) / len(took) / 1e9, rel=0.02)
    assert f"of {of.blocks.number} were late" in headline(of)


def test_what_is_in_a_mono_client_has_a_mono_card():
    """A plugin of one channel would count twice on a track of two."""
    seen = host()
    clients = (Client("one", 1, 1, 1, (DEVICE,)),)
    told = SimpleNamespace(server=Server("JACK", "default", 9, 48000, 256, True, 0, 0, clients))
    heard = seen._replace(recording=seen.recording._replace(heard=told))
    made = session_of(heard, 256, 48000, {FILES[0]: EQ, FILES[1]: SYNTH}, "What ran")
    (one,) = (strip for strip in made.session.strips if strip.name == "one")
    assert {use.channels for use in one.uses()} == {1}
    costs = {card.key: card.cells[0].mean for card in made.cards}
    assert costs[msgspec.structs.replace(EQ, channels=1).card_key()] == pytest.approx(0.15 * 5.333e-3, rel=0.02)
    assert costs.keys() == {use.card_key() for strip in made.session.strips for use in strip.uses()}


def test_what_is_not_known_by_name_stands_under_its_file():
    made = session_of(host(), 256, 48000, {}, "x")
    assert set(made.unknown) == set(FILES)
    refs = {use.plugin for strip in made.session.strips for use in strip.uses()}
    assert refs == {PluginRef(SEEN, FILES[0], "Eq"), PluginRef(SEEN, FILES[1], "Synth")}
    assert "Not known by name" in taken_words(made) and "as seen at 256 samples" in taken_words(made)


def test_two_instruments_of_one_thread_are_two_tracks():
    made = session_of(host(), 256, 48000, {FILES[0]: SYNTH, FILES[1]: SYNTH}, "x")
    assert [strip.name for strip in made.session.strips] == ["audio 1", "audio 2", "audio 2 2", "Main"]


def test_without_a_cycle_or_plugins_there_is_none():
    silent = see(recording(thread(1, [(0, 10), (1_000_000, 1_000_010)])))
    with pytest.raises(ValueError, match="no cycle"):
        session_of(silent, 256, 48000, {}, "x")
    with pytest.raises(ValueError, match="no plugin"):
        session_of(see(recording(thread(1, blocks(PERIOD, 300, [PERIOD // 3])))), 256, 48000, {}, "x")


def test_predicted_stands_against_seen_plugin_by_plugin():
    mix = session(track("a", "eq", "eq"), track("b", "eq", clips=((5, 10),)), track("c", "other"))
    cards = cards_for(mix, {"eq": 0.1 * 256 / 48000, "other": 0.2 * 256 / 48000})
    of = survey(mix, Plan(), cards, Machine(2), 256)
    seen = host()
    # Where only the first track sounds its two are what costs; a silent one costs as much with these cards.
    found = compared_with(of, instant(of, 7.0), seen, {FILES[0]: EQ, FILES[1]: SYNTH})
    (eq,) = found.plugins
    assert eq.name == "Eq" and eq.predicted == pytest.approx(0.3) and eq.seen == pytest.approx(0.3, rel=0.02)
    assert eq.low < eq.seen < eq.high
    assert found.seen_work == pytest.approx(0.65, rel=0.02) and found.work == pytest.approx(0.5)
    assert found.typical == pytest.approx(seen.blocks.typical)
    assert "Predicted" in compared_words(found) and "Eq" in compared_table(found).splitlines()[-1]
    assert np.isclose(found.load, found.figures()["load"]) and found.figures()["plugins"][0]["name"] == "Eq"


def test_time_of_libraries_that_nobody_called_is_no_plugins():
    begun, ns = 1_000_000_000, PERIOD // 4
    met = [(begun + k * PERIOD + j * 10_000, owner) for k in range(COUNT) for owner, first in ((1, 0), (-1, ns))
           for j in range(first // 10_000, (first + ns) // 10_000)]  # fmt: skip
    seen = see(recording(thread(1, blocks(PERIOD, COUNT, [2 * ns], begun), looks=met, weight=10_000), files=FILES))
    mix = session(track("a", "eq"))
    of = survey(mix, Plan(), cards_for(mix, {"eq": 0.1 * 256 / 48000}), Machine(2), 256)
    # Both files hold the same plugin: what belongs to none of them must not be taken for either.
    found = compared_with(of, instant(of, 1.0), seen, {FILES[0]: EQ, FILES[1]: EQ})
    assert [each.file for each in found.plugins] == [FILES[0]]


def test_it_is_a_kind_of_figure_of_its_own():
    assert "seen" in PROVENANCES
