"""The clients of a sound server as strips: what is connected, what would close a circle, who has which plugins."""

from __future__ import annotations

import msgspec
import pytest

from nimbleload.core.load.clients import as_clients
from nimbleload.core.session.edits import checked, empty
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.strips import Strip
from nimbleload.core.watching.server import DEVICE, Client, Server


def client(name, process, *feeds):
    return Client(name, process, 2, 2, feeds)


def test_who_gives_one_channel_is_mono_with_what_is_on_it():
    mono = client("comp", 3, DEVICE)._replace(inputs=2, outputs=1)
    strips, _ = as_clients([seen(3, "comp", "comp"), seen(4, "eq", "eq")], server(mono, client("eq", 4, DEVICE)), 60.0)
    assert [strip.channels for strip in strips] == [1, 2]
    assert [strip.inserts[0].channels for strip in strips] == [1, 2]


def server(*clients):
    return Server("JACK", "default", 1, 48000, 256, True, 0, 0, (client(DEVICE, 1, "synth"), *clients))


def use(name, family="equaliser"):
    return PluginUse(name, PluginRef("LV2", f"urn:{name}", name), family=family)


def seen(process, name, *effects, instrument=None):
    return process, Strip(name, name, "track", instrument, tuple(map(use, effects)), output="main")


def test_clients_feed_each_other_as_they_are_connected_and_the_device_is_the_main_output():
    made, circles = as_clients(
        [seen(10, "a", "eq"), seen(11, "b", "reverb")],
        server(client("synth", 10, "mixer", DEVICE), client("mixer", 11, DEVICE), client("tuner", 12)),
        60.0,
    )
    assert circles == ()
    synth, mixer, tuner = made
    assert (synth.name, synth.kind, synth.output, [send.target for send in synth.sends]) == (
        "synth", "track", mixer.id, ["main"])  # fmt: skip
    assert (mixer.kind, mixer.output, mixer.clips) == ("bus", "main", ())
    assert (tuner.kind, tuner.output) == ("track", None)
    assert [[insert.id for insert in strip.inserts] for strip in made] == [["eq"], ["reverb"], []]
    assert synth.clips[0].end == 60.0
    blank = empty("x")
    checked(msgspec.structs.replace(blank, strips=(*made, *blank.strips)))


@pytest.mark.parametrize("around", [("a",), ("b", "a"), ("b", "c", "a")])
def test_a_connection_that_closes_a_circle_is_left_out_and_named(around):
    names = ["a", *around[:-1]]
    clients = [client(name, 0, names[(k + 1) % len(names)], DEVICE) for k, name in enumerate(names)]
    made, circles = as_clients([], server(*clients), 10.0)
    assert circles == (f"{names[-1]} → a",)
    blank = empty("x")
    checked(msgspec.structs.replace(blank, strips=(*made, *blank.strips)))


def test_one_that_feeds_somebody_who_is_gone_is_left_out():
    made, circles = as_clients([], server(client("a", 10, "gone", DEVICE)), 10.0)
    assert circles == ("a → gone",) and made[0].output == "main" and made[0].sends == ()


def test_of_several_clients_of_a_process_the_first_has_its_plugins_and_others_keep_their_strips():
    made, _ = as_clients(
        [seen(10, "a", "eq"), seen(10, "thread 2", "gate"), seen(99, "engine", "comp")],
        server(client("in", 10), client("out", 10, DEVICE)),
        10.0,
    )
    assert {strip.name: [insert.id for insert in strip.inserts] for strip in made} == {
        "engine": ["comp"], "in": ["eq", "gate"], "out": []}  # fmt: skip


def test_further_instruments_of_a_client_feed_it():
    keys, bells = use("keys", "instrument"), use("bells", "instrument")
    met = [seen(10, "a", "eq", instrument=keys), seen(10, "a 2", instrument=bells)]
    made, _ = as_clients(met, server(client("host", 10, DEVICE)), 9.0)
    extra, host = made
    assert (host.instrument, host.kind) == (keys, "track")
    assert (extra.instrument, extra.output, extra.inserts) == (bells, host.id, ())
