"""Real sound servers, with real plugins in the standard's own command-line host, listened to and watched."""

from __future__ import annotations

import os
import signal
import sys
import time
from types import SimpleNamespace

import numpy as np
import pytest

from nimbleload.core.watching.blocks import see
from nimbleload.core.watching.server import DEVICE, Client, Server
from nimbleload.core.watching.shares import parts, shares
from nimbleload.machine import sound_servers
from nimbleload.machine.listening import Listening, ListeningError
from nimbleload.machine.server_messages import Buffer, Gone, State, Xrun, encode
from nimbleload.machine.sound_servers import Running
from nimbleload.machine.watcher import Watcher
from tests.helpers import sound_server
from tests.helpers.sound_server import TWELVE, wait_for


def plugin(name):
    return f"urn:zamaudio:{name}"


@pytest.fixture
def server(tmp_path):
    with sound_server.jack(tmp_path) as started:
        yield started


def running(server):
    """The server of this test among those that run."""
    return next(each for each in sound_servers.servers() if each.process == server.process.pid)


def listened(server):
    return Listening(running(server))


def watch(watcher, seconds):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        time.sleep(0.05)
        watcher.poll()
    return watcher.recording()


@pytest.fixture
def only(server):
    """The server with one client called “only”, and a watcher of both."""
    server.add("only", plugin("ZamComp"))
    wait_for(lambda: "only:" in server.run("jack_lsp"), "the client")
    watcher = Watcher.of_server(running(server), seconds=30)
    yield watcher
    watcher.close()


def test_a_server_tells_how_it_runs_and_who_feeds_whom(server):
    for name in ("first", "second"):
        server.add(name, plugin("ZamTube"))
    wait_for(lambda: server.run("jack_lsp").count("audio_out") == 2, "the clients")
    server.connect("first:lv2_audio_out_1", "second:lv2_audio_in_1")
    server.connect("second:lv2_audio_out_1", "system:playback_1")
    server.connect("second:lv2_audio_out_1", "system:playback_2")
    before = server.run("jack_lsp", "-c")
    listening = listened(server)
    try:
        heard = listening.heard().server
        assert (heard.kind, heard.rate, heard.buffer, heard.is_real_time) == ("JACK", 48000, 256, True)
        assert heard.latency_in >= 256 and heard.latency_out >= 256
        clients = {client.name: client for client in heard.clients}
        assert clients["first"].feeds == ("second",) and clients["second"].feeds == (DEVICE,)
        assert (clients["first"].inputs, clients["first"].outputs) == (1, 1)
        found = {name: client.process for name, client in clients.items()}
        hosts = {name: process.pid for name, process in server.clients.items()}
        assert found == {**hosts, DEVICE: server.process.pid}
        assert set(heard.processes) == set(found.values())
        assert [client.name for client in heard.clients_of(hosts["first"])] == ["first"]
        # Nothing is there that was not there before.
        assert server.run("jack_lsp", "-c") == before
    finally:
        listening.close()
    assert server.run("jack_lsp", "-c") == before


def as_the_server_counts(load):
    """JACK's own load, on average: of 32 blocks the mean, or the worst if one took 95 % or more; half of it is new.

    Where it begins to count is not known, so all 32 beginnings are averaged.
    """
    said = []
    for first in range(32):
        whole = load[first : first + (len(load) - first) // 32 * 32].reshape(-1, 32)
        sets = np.where(whole.max(axis=1) < 0.95, whole.mean(axis=1), whole.max(axis=1).clip(max=1))
        now = sets[0]
        for share in sets:
            now = 0.5 * now + 0.5 * share
            said.append(now)
    return np.mean(said)


@pytest.mark.usefixtures("may_watch")
def test_twelve_real_plugins_and_the_rest_make_up_the_engine_and_the_servers_own_load(server):
    for place, name in enumerate(TWELVE):
        server.add(f"c{place}", name)
    wait_for(lambda: all(f"c{place}:" in server.run("jack_lsp") for place in range(12)), "the clients")
    watcher = Watcher.of_server(running(server), seconds=30)
    try:
        recording = watch(watcher, 5)
    finally:
        watcher.close()
    seen = see(recording)
    assert seen.blocks is not None and recording.heard is not None
    assert seen.blocks.period == pytest.approx(256 / 48000, rel=1e-3)
    met = {recording.files[share.owner - 1].rsplit("/", 1)[-1] for share in shares(seen) if share.owner > 0}
    # Some take so little that they may not be met in five seconds; the heavy ones are.
    assert {"ZamVerb.lv2", "ZamTube.lv2", "ZaMultiComp.lv2"} <= met and len(met) >= 8
    engine = next(part.core for part in parts(seen) if part.role == "engine")
    assert sum(share.core for share in shares(seen)) == pytest.approx(engine, rel=0.02)
    own = recording.heard.load[2:].mean()
    assert as_the_server_counts(seen.blocks.load) == pytest.approx(own, abs=0.03 + 0.1 * own)


@pytest.mark.usefixtures("may_watch")
def test_who_comes_while_it_is_watched_is_watched_too_and_who_goes_is_told(server):
    server.add("early", plugin("ZamComp"))
    wait_for(lambda: "early:" in server.run("jack_lsp"), "the client")
    watcher = Watcher.of_server(running(server), seconds=30)
    try:
        server.add("late", plugin("ZamVerb"))
        wait_for(lambda: "late:" in server.run("jack_lsp"), "the client")
        recording = watch(watcher, 3)
        assert server.clients["late"].pid in {thread.process for thread in recording.threads}
        server.clients["early"].kill()
        watch(watcher, 2)
        words = [event.words for event in watcher.events]
        assert "client late has come" in words and "client early has gone" in words
        assert words.index("client late has come") < words.index("client early has gone")
    finally:
        watcher.close()


@pytest.mark.usefixtures("may_watch")
def test_another_buffer_is_told_and_blocks_of_before_are_left_out(server, only):
    watch(only, 1)
    server.run("jack_bufsize", "1024")
    recording = watch(only, 4)
    words = [event.words for event in only.events]
    assert words == ["blocks are 1024 samples from now on, before 256"]
    blocks = see(recording).blocks
    assert blocks is not None and blocks.period == pytest.approx(1024 / 48000, rel=1e-3)
    assert recording.seconds < 4
    assert recording.heard.server.buffer == 1024
    assert len(recording.heard.load_time) and recording.heard.load_time.min() >= recording.begun


@pytest.mark.usefixtures("may_watch")
def test_xruns_stand_on_the_same_axis_as_blocks(server, only):
    watch(only, 1)
    stopped = time.monotonic_ns()
    server.clients["only"].send_signal(signal.SIGSTOP)
    time.sleep(0.1)
    server.clients["only"].send_signal(signal.SIGCONT)
    recording = watch(only, 2)
    heard = recording.heard
    assert len(heard.xrun_time) >= 1 and (heard.xrun_late >= 0).all()
    assert (np.diff(heard.xrun_time) >= 0).all()
    # Others may come of themselves where the computer is busy elsewhere.
    after = heard.xrun_time - stopped
    assert ((after > 0) & (after < 2_000_000_000)).any()
    assert ((recording.begun < heard.xrun_time) & (heard.xrun_time < recording.ended)).all()


@pytest.mark.usefixtures("may_watch")
def test_a_server_that_is_killed_is_an_event(server, only):
    watch(only, 1)
    server.process.kill()
    server.process.wait()
    recording = watch(only, 3)
    assert only.listening.is_gone
    assert any(event.words.startswith("JACK is gone: ") for event in only.events)
    blocks = see(recording).blocks
    assert blocks is not None and len(blocks.load) > 100


def listener(tmp_path, monkeypatch, *steps):
    """What listens is a program that does these things, in place of the one that knows the server's library."""
    script = tmp_path / "listener"
    script.write_text("\n".join([f"#!{sys.executable}", "import sys, time", *steps]))
    script.chmod(0o755)
    monkeypatch.setattr("nimbleload.machine.listening.sys", SimpleNamespace(executable=str(script)))
    return Running("JACK", "default", 0)


def says(message):
    return f"print({encode(message).decode()!r}, flush=True)"


SERVER = Server("JACK", "default", 7, 48000, 256, True, 0, 0, (Client("mixer", 8, 2, 2, ()),))


def test_the_first_word_need_not_be_how_the_server_runs(tmp_path, monkeypatch):
    found = listener(
        tmp_path, monkeypatch, says(Buffer(1, 256)), "print('the library prints, too', flush=True)", "time.sleep(0.5)",
        says(State(2, 0.25, SERVER)), says(Xrun(5, 0.001)), says(Xrun(4, 0.002)), "sys.stdin.read()",
    )  # fmt: skip
    listening = Listening(found)
    try:
        wait_for(lambda: len(listening.heard().xrun_time) == 2, "the xruns")
        heard = listening.heard()
        assert heard.server == SERVER and heard.load.tolist() == [0.25]
        assert heard.xrun_time.tolist() == [4, 5] and heard.xrun_late.tolist() == [0.002, 0.001]
        assert listening.events == [] and not listening.is_gone
    finally:
        listening.close()


@pytest.mark.parametrize(
    ("step", "words"),
    [("pass", "it no longer answers"), (says(Gone(1, "no such thing")), "no such thing"),
     ("print('{}', flush=True)", "it no longer answers")],
)  # fmt: skip
def test_one_that_ends_without_a_state_is_told(tmp_path, monkeypatch, step, words):
    with pytest.raises(ListeningError, match=words):
        Listening(listener(tmp_path, monkeypatch, step))


def test_a_server_that_is_not_there_cannot_be_listened_to():
    with pytest.raises(ListeningError, match="JackOpenError"):
        Listening(Running("JACK", f"nobody{os.getpid()}", 0))


@pytest.mark.usefixtures("may_watch")
def test_pipewire_is_listened_to_through_its_edition_of_the_library(tmp_path, monkeypatch):
    monkeypatch.delenv("XDG_RUNTIME_DIR", raising=False)
    with sound_server.pipewire(tmp_path) as server:
        for name in ("one", "two"):
            server.add(name, plugin("ZamVerb"))
        wait_for(lambda: server.run("pw-jack", "jack_lsp").count("audio_out") == 4, "the clients")
        server.connect("one:lv2_audio_out_1", "two:lv2_audio_in_1")
        found = running(server)
        assert found.kind == "PipeWire"
        watcher = Watcher.of_server(found, seconds=30)
        try:
            recording = watch(watcher, 4)
        finally:
            watcher.close()
        heard = recording.heard.server
        clients = {client.name: client for client in heard.clients}
        assert {name: client.process for name, client in clients.items()} == {
            name: process.pid for name, process in server.clients.items()
        }
        assert clients["one"].feeds == ("two",)
        seen = see(recording)
        assert seen.blocks is not None
        assert seen.blocks.period == pytest.approx(heard.buffer / heard.rate, rel=1e-3)
        assert any("ZamVerb" in recording.files[share.owner - 1] for share in shares(seen) if share.owner > 0)
