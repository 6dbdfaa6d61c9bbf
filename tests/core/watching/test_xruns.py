"""Xruns beside blocks, in recordings that were made by hand."""

from __future__ import annotations

import pytest

from nimbleload.core.told.watching import findings, heard_words, xrun_words
from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.records import Heard
from nimbleload.core.watching.server import DEVICE, Client, Server
from nimbleload.core.watching.xruns import TOLD_WITHIN, xruns
from tests.helpers.recordings import blocks, recording, thread

PERIOD, BEGUN, COUNT = 5_000_000, 1_000_000_000, 200
CLIENTS = (Client(DEVICE, 7, 2, 2, ()), Client("mixer", 8, 2, 2, (DEVICE,)), Client("player", 8, 0, 2, ("mixer",)))
SERVER = Server("JACK", "default", 7, 48000, 240, True, 240, 480, CLIENTS)


def heard(*times, loads=()):
    return Heard.of(SERVER, [(time, 0.001) for time in times], loads)


def seen(of, late=()):
    """Two hundred blocks of half the deadline; those of `late` numbers take half as much again as they have."""
    busy = [round(1.5 * PERIOD) if k in late else PERIOD // 2 for k in range(COUNT)]
    return see(recording(thread(1, blocks(PERIOD, COUNT, busy, BEGUN)))._replace(heard=of))


def blocks_of(found):
    """The blocks that xruns belong to, counted by their deadlines: a late one's next has no start of its own."""
    return [round((begun - BEGUN) / PERIOD) for begun in found.blocks.start[xruns(found).places].tolist()]


def explained(found):
    return int(xruns(found).is_late.sum())


def at(block, share=0.5):
    return BEGUN + round((block + share) * PERIOD)


def test_an_xrun_belongs_to_the_late_block_before_it():
    found = seen(heard(at(50, 1.6), at(80, 0.9), at(120, 3.0)), late=(50, 80, 120))
    assert found.blocks.dropouts == 3
    assert blocks_of(found) == [50, 80, 120] and explained(found) == 3
    assert xrun_words(found) == "JACK told of 3 xruns, the last 0 s ago; all with late blocks."


def test_one_that_no_block_explains_is_the_devices():
    found = seen(heard(at(50, 1.6), at(150)), late=(50,))
    assert blocks_of(found) == [50, 150] and explained(found) == 1
    assert "1 with a late block, 1 while every block was in time: look at the device" in xrun_words(found)


def test_a_client_that_does_not_compute_is_named():
    server = blocks(PERIOD, COUNT, [PERIOD // 10], BEGUN)
    # Its audio thread waits for something from the hundredth block on, for five blocks; another seldom computes.
    client = [(b + PERIOD // 10, b + PERIOD // 5) for k, (b, _) in enumerate(server) if not 100 <= k < 105]
    seldom = [(b + PERIOD // 10, b + PERIOD // 5) for b, _ in server[::3]]
    mixer = SERVER._replace(clients=(Client("mixer", 8, 2, 2, ()), Client("drums", 9, 2, 2, ())))
    of = recording(thread(1, server, process=7), thread(2, client, process=8), thread(3, seldom, process=9))
    found = see(of._replace(heard=heard(at(102), at(104), at(180))._replace(server=mixer)))
    assert xruns(found).absent.tolist() == [1, 1, -1] and explained(found) == 0
    said = xrun_words(found)
    assert "; 2 while the client mixer did not compute: it waited for something, 1 while every block was in" in said
    # Where a process has several clients, the thread is named.
    two = SERVER._replace(clients=(Client("a", 8, 2, 2, ()), Client("b", 8, 2, 2, ())))
    of = found.recording._replace(heard=found.recording.heard._replace(server=two))
    assert "2 while the thread thread 2 did not compute" in xrun_words(see(of))


def test_one_before_the_first_late_block_and_one_long_after_it_are_not_explained():
    late_end = BEGUN + 51 * PERIOD
    found = seen(heard(at(10), late_end + TOLD_WITHIN - PERIOD, late_end + TOLD_WITHIN + PERIOD), late=(50,))
    assert explained(found) == 1
    assert blocks_of(found)[:2] == [10, 50]


def test_without_blocks_or_a_server_there_is_nothing_to_mark():
    assert len(xruns(seen(None)).places) == 0 and explained(seen(None)) == 0
    empty = see(recording(thread(1, []))._replace(heard=heard(at(3))))
    assert len(xruns(empty).places) == 0 and explained(empty) == 0
    assert heard_words(seen(None)) == []


def test_what_the_server_tells_of_itself_is_a_sentence():
    said = heard_words(seen(heard(loads=[(at(1), 0.4), (at(100), 0.6)])))
    assert said == [
        "JACK: 2 clients, 240 samples at 48 kHz; its device takes 5.00 ms in and 10.0 ms out; a load of 50 % by its "
        "own count, 50 % on average as seen here.",
        "No xrun was told.",
    ]
    bare = SERVER._replace(is_real_time=False, latency_in=-1, latency_out=-1)
    assert heard_words(seen(heard()._replace(server=bare)))[0] == (
        "JACK: 2 clients, 240 samples at 48 kHz, not in real time."
    )


def test_xruns_are_told_before_smaller_things():
    found = seen(heard(at(50, 1.6)), late=(50,))
    said = findings(found, [], [], {})
    assert said[0].startswith("JACK told of 1 xrun") and said[1].startswith("Why a block was late: it took longer")
    assert said[-1].startswith("JACK: 2 clients")
    assert not any("No xrun" in sentence for sentence in said)


def test_only_the_last_seconds_of_what_was_heard_are_kept_with_them():
    whole = seen(heard(at(10), at(190), loads=[(at(10), 0.3), (at(180), 0.5)])).recording
    last = whole.last(0.2).heard
    assert last.xrun_time.tolist() == [at(190)] and last.load.tolist() == [0.5]
    assert last.xrun_late == pytest.approx([0.001])


def test_processes_of_a_server_stand_once_and_only_those_that_are_known():
    assert SERVER.processes == (7, 8)
    assert SERVER._replace(process=0).processes == (7, 8)
    assert [client.name for client in SERVER.clients_of(8)] == ["mixer", "player"]
    assert SERVER._replace(clients=(Client("x", 0, 1, 1, ()),)).clients_of(0) == []
