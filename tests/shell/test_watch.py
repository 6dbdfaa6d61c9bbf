"""Watching from a shell: words, JSON, CSV, recordings, exit codes."""

from __future__ import annotations

import csv
import json
import os
import subprocess
import sys
import time

import numpy as np
import pytest
from click.testing import CliRunner

from nimbleload.core.watching.records import HOST, Clocks
from nimbleload.demo.cards import sample_cards
from nimbleload.demo.recording import past, recording
from nimbleload.machine import perf, processes, sound_servers
from nimbleload.machine.processes import Process
from nimbleload.machine.sound_servers import Running
from nimbleload.probe import catalogue
from nimbleload.shell import cli
from nimbleload.store import recording_file, session_file
from tests.helpers import sound_server
from tests.helpers.host import Host, Plugin, had_its_cores, has_its_cores, in_one_file, stolen
from tests.helpers.sound_server import wait_for

PLUGINS = [Plugin("small", 80_000), Plugin("large", 500_000)]


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    """The example's recording in a file."""
    path = tmp_path_factory.mktemp("kept") / "example.nimblewatch"
    recording_file.write(path, recording(sample_cards()), {"/example/Vault.lv2": "Vault, as installed"})
    return path


def run(*words):
    return CliRunner().invoke(cli, ["watch", *map(str, words)])


@pytest.mark.usefixtures("may_watch")
def test_a_running_host_is_told_in_words_figures_and_a_file(tmp_path):
    before = stolen()
    with Host(tmp_path, PLUGINS, 2_000_000, 30_000, late_every=50) as host:
        said = run(host.pid, "--seconds", 2)
        again = run(host.pid, "--seconds", 1.5, "--json", "--keep", tmp_path / "a.nimblewatch")
    if any("No cycle found" in each for each in (said.output, again.stderr)) or '"cycle": null' in again.stdout:
        had_its_cores(before)
    assert said.exit_code == 3, said.output
    assert "Blocks of 2.00 ms" in said.output and "large takes most" in said.output
    figures = json.loads(again.stdout)
    assert figures["cycle"]["seconds"] == pytest.approx(0.002, rel=1e-3)
    assert figures["cycle"]["late"] >= 5
    # It is late by its own doing, on purpose, if the computer lets it.
    because = figures["cycle"]["late_because"]
    reasons = ["began_late", "slept_on", "read_from_disk", "core_taken_away", "gave_way", "waited", "took_longer",
               "after_a_late_one"]  # fmt: skip
    assert sum(because[each] for each in reasons) == figures["cycle"]["late"]
    assert "took longer by themselves" in said.output
    assert [row["name"] for row in figures["rows"] if row["is_plugin"]] == ["large", "small"]
    read = run("--from", tmp_path / "a.nimblewatch", "--json")
    assert json.loads(read.stdout) == figures


@pytest.mark.usefixtures("may_watch")
def test_plugins_that_nobody_has_looked_for_yet_are_looked_for_first(tmp_path, monkeypatch):
    file, plugins = in_one_file(tmp_path, small=80_000, large=500_000)
    look = catalogue.catalogue
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(catalogue, "catalogue", lambda: look([file]))
    with Host(tmp_path, plugins, 2_000_000, 30_000) as host:
        first, again = (run(host.pid, "--seconds", 1.5, "--json") for _ in range(2))
    assert "looked for first, once" in first.stderr and not again.stderr
    for said in (first, again):
        assert [row["name"] for row in json.loads(said.stdout)["rows"] if row["is_plugin"]] == ["large", "small"]


def test_a_recording_reads_the_same_everywhere(kept):
    said = run("--from", kept)
    assert said.exit_code == 0, said.output
    assert "256 samples at 48 kHz" in said.output and "Vault, as installed" in said.output
    figures = json.loads(run("--from", kept, "--json").output)
    rows = list(csv.DictReader(run("--from", kept, "--csv").output.splitlines()))
    assert [row["name"] for row in rows] == [row["name"] for row in figures["rows"]]
    assert [float(row["of one core"]) for row in rows] == pytest.approx(
        [row["core"] for row in figures["rows"]], abs=1e-5
    )
    assert (figures["cycle"]["buffer"], figures["cycle"]["rate"]) == (256, 48000)
    assert [part["role"] for part in figures["roles"]] == ["engine", "window", "disk", "other"]


def test_without_a_process_the_only_host_is_watched_or_all_are_listed(monkeypatch):
    monkeypatch.setattr(processes, "hosts", list)
    with monkeypatch.context() as nothing_known:
        nothing_known.setattr(catalogue, "remembered", list)
        nothing_known.setattr(catalogue, "catalogue", lambda: pytest.fail("plugins were looked for first"))
        assert "No host is running" in run().output
    two = [Process(2**22 - 2, "mixer", 1, ("/usr/lib/lv2/a.lv2",), 1, 0.0),
           Process(2**22 - 3, "server", 1, ("/usr/lib/clap/b.clap",), 2, 0.0)]  # fmt: skip
    monkeypatch.setattr(processes, "hosts", lambda: two)
    said = run()
    assert said.exit_code == 1
    assert f"{2**22 - 2}  mixer: a; 1 thread in real time" in said.output
    assert f"{2**22 - 3}  server: b; 2 threads in real time" in said.output
    monkeypatch.setattr(processes, "hosts", lambda: two[:1])
    assert f"there is no process {2**22 - 2}" in run().output
    assert f"there is no process {2**22 - 2}" in run("--all").output


@pytest.mark.usefixtures("may_watch")
@pytest.mark.parametrize(
    ("program", "words"), [("while True: pass", "No cycle found"), ("import time; time.sleep(60)", "Nothing has run")]
)
def test_a_program_without_a_cycle_ends_in_a_code_of_its_own(program, words):
    with subprocess.Popen([sys.executable, "-c", program]) as process:
        try:
            time.sleep(0.3)
            said = run(process.pid, "--seconds", 0.5)
        finally:
            process.kill()
    assert said.exit_code == 4
    assert words in said.output


def test_where_the_kernel_refuses_the_remedy_is_said(monkeypatch):
    def refused(*_, **__):
        raise perf.NotAllowedError("no")

    monkeypatch.setattr("nimbleload.shell.watch.Watcher", refused)
    said = run(os.getpid(), "--seconds", 0.5)
    assert said.exit_code == 1
    assert "Without it only this can be seen:" in said.output
    assert "sudo sysctl kernel.perf_event_paranoid=2" in said.output


def test_a_file_that_is_no_recording_is_a_sentence(tmp_path):
    (tmp_path / "x.nimblewatch").write_text("no")
    said = run("--from", tmp_path / "x.nimblewatch")
    assert said.exit_code == 1
    assert "is damaged" in said.output and "Traceback" not in said.output


def test_what_was_seen_becomes_a_session_and_stands_against_one(kept, tmp_path, monkeypatch):
    monkeypatch.setattr("nimbleload.probe.catalogue.remembered", list)
    target = tmp_path / "seen.nimbleload"
    said = run("--from", kept, "--session", target, "--against", "demo", "--at", "2:14")
    assert said.exit_code in (0, 3), said.output
    assert f"Written to {target}" in said.output and "Predicted" in said.output
    made = session_file.read(target)
    assert {cell.provenance for card in made.cards for cell in card.cells} == {"seen"} and made.buffer == 256
    figures = json.loads(run("--from", kept, "--against", "demo", "--at", "2:14", "--json").output)["against"]
    assert figures["buffer"] == 256 and figures["plugins"][0]["predicted"] > 0


def test_what_cannot_be_done_with_it_is_said_before_anything_is_watched(tmp_path, monkeypatch):
    """Not after an hour, with nothing kept of it."""
    monkeypatch.setattr("nimbleload.shell.watch.watched", None)
    there = tmp_path / "there.nimbleload"
    there.write_text("mine")
    for words, why in {
        ("--session", there): "is there already and was not changed",
        ("--keep", there): "is there already and was not changed",
        ("--session", tmp_path / "a.txt"): "does not end in .nimbleload",
        ("--keep", tmp_path / "no" / "a.nimblewatch"): f"{tmp_path / 'no'} is no folder that lets you",
        ("--against", tmp_path / "none.nimbleload"): "none.nimbleload cannot be read",
        ("--against", "demo", "--at", "noon"): "no position",
        ("--at", "1:00"): "with what, --against says",
        ("--against", "demo", "--at", "59:00"): "is not in the piece, which lasts 12:00",
    }.items():
        said = run(os.getpid(), *words)
        assert said.exit_code and why in said.output, said.output
    assert there.read_text() == "mine"


@pytest.mark.usefixtures("may_watch")
def test_the_sound_server_is_watched_with_its_clients(tmp_path, monkeypatch):
    with sound_server.jack(tmp_path) as server:
        server.add("strings", "urn:zamaudio:ZamVerb")
        wait_for(lambda: "strings:" in server.run("jack_lsp"), "the client")
        mine = [each for each in sound_servers.servers() if each.process == server.process.pid]
        monkeypatch.setattr(sound_servers, "servers", lambda: mine)
        said = run("--jack", "--seconds", 6, "--json", "--keep", tmp_path / "a.nimblewatch")
        words = run("--jack", "--seconds", 1)
    assert said.exit_code in (0, 3), said.output
    figures = json.loads(said.stdout)
    told = figures["server"]
    assert (told["kind"], told["buffer"], told["rate"]) == ("JACK", 256, 48000)
    assert [client["name"] for client in told["clients"]] == ["system", "strings"]
    assert told["clients"][1]["process"] == server.clients["strings"].pid and 0 < told["load"] < 1
    assert all(set(each) == {"at", "late", "with_a_late_block"} for each in told["xruns"])
    assert "JACK: 1 client, 256 samples at 48 kHz" in words.output
    assert json.loads(run("--from", tmp_path / "a.nimblewatch", "--json").output)["server"] == told


def test_without_a_server_it_is_said(monkeypatch):
    monkeypatch.setattr(sound_servers, "servers", list)
    said = run("--jack")
    assert said.exit_code == 1 and "No sound server of yours is running" in said.output
    monkeypatch.setattr(sound_servers, "servers", lambda: [Running("JACK", f"nobody{os.getpid()}", 0)])
    said = run("--jack")
    assert said.exit_code == 1 and "JACK cannot be listened to: JackOpenError" in said.output


def test_a_recording_is_compared_with_one_kept_before(tmp_path):
    """Tar is frozen in between."""
    of = recording(sample_cards())
    tar = 1 + next(place for place, file in enumerate(of.files) if "Tar" in file)
    threads = tuple(t._replace(look_owner=np.where(t.look_owner == tar, HOST, t.look_owner)) for t in of.threads)
    for name, each in (("a", of), ("b", of._replace(threads=threads))):
        recording_file.write(tmp_path / f"{name}.nimblewatch", each, {})
    words = "--from", tmp_path / "b.nimblewatch", "--before", tmp_path / "a.nimblewatch"
    said = run(*words).output
    lines = said[said.index("Against before") :].splitlines()
    assert "Tar −" in lines[0] and "the host itself +" in lines[0]
    assert lines[1].startswith("Blocks before: typical")
    assert any(line.split()[:1] == ["Tar"] and line.split()[3:5] == ["0.0", "%"] for line in lines)
    assert any(line.endswith("(chance)") for line in lines)
    told = json.loads(run(*words, "--json").stdout)
    assert {c["name"] for c in told["before"] if c["is_real"]} == {"Tar", "the host itself"}
    (tmp_path / "bad.nimblewatch").write_bytes(b"no")
    assert "is damaged" in run("--from", tmp_path / "b.nimblewatch", "--before", tmp_path / "bad.nimblewatch").output


def test_what_cores_that_slow_down_explain_is_told_beside_what_changed(tmp_path):
    made = recording(sample_cards())
    of = [made._replace(clocks=Clocks.of(range(8), [4_000_000_000] * 8, [(made.begun + 1, [clock] * 8, [hot] * 8)]))
          for clock, hot in ((4_000_000_000, 2), (2_500_000_000, 2))]  # fmt: skip
    for name, each in zip("ab", of, strict=True):
        recording_file.write(tmp_path / f"{name}.nimblewatch", each, {})
    then, now = tmp_path / "a.nimblewatch", tmp_path / "b.nimblewatch"
    said = run("--from", now, "--before", then)
    assert "Its cores ran at 2.5 GHz, of 4.0 GHz that they may have (see Machine)." in said.output
    assert "The cores run slower now: what only takes up to 1.60 times as long is no difference." in said.output
    figures = json.loads(run("--from", now, "--json").stdout)["clock"]
    assert figures == {"now": 2.5e9, "most": 4e9, "before": 0, "ago": 0, "hot": 0}
    assert json.loads(run("--from", then, "--before", now, "--json").stdout)["clock"]["now"] == 4e9


@pytest.fixture(scope="module")
def long_kept(tmp_path_factory):
    """The example's recording with all that was seen before it."""
    path, cards = tmp_path_factory.mktemp("long") / "example.nimblewatch", sample_cards()
    made = recording(cards)
    recording_file.write(path, made, {}, past(cards, made))
    return path


def test_all_that_was_seen_before_is_told_with_each_dropout(long_kept):
    said = run("--from", long_kept)
    assert said.exit_code == 3
    lines = said.stdout.splitlines()
    assert "10 dropouts in 24 min of playing, the last at 22:06 of watching." in lines
    assert "In all the thread autosave was at work, as it is hardly ever else." in lines
    assert sum(line.endswith("Beside it: autosave.") for line in lines) == 10
    found = json.loads(run("--from", long_kept, "--json").stdout)["past"]
    assert found["number"] == len(found["dropouts"]) == 10 and found["played"] == pytest.approx(1451, abs=1)
    assert found["regular"]["every"] == pytest.approx(120.0) and found["regular"]["steps"] == 11
    assert [each["name"] for each in found["at_work_with"]] == ["autosave"]
    assert found["heard"][0]["a_block_was_late"] is True
    first = found["dropouts"][0]
    assert first["at"] == pytest.approx(126, abs=1) and first["day"] is None and first["blocks"] == 1


@pytest.mark.usefixtures("may_watch")
def test_a_host_watched_for_long_is_told_of_from_its_beginning(tmp_path, monkeypatch):
    """Records are kept for four seconds here: what was late before is told all the same."""
    monkeypatch.setattr("nimbleload.shell.watch.KEPT_SECONDS", 3.0)
    monkeypatch.setattr("nimbleload.shell.watch.LOOK_EVERY", 1.0)
    with Host(tmp_path, [Plugin("bursty", 100_000, 750, 3_000_000)], 2_000_000, 9000) as host:
        found = json.loads(run(host.pid, "--seconds", 8, "--json", "--keep", tmp_path / "a.nimblewatch").stdout)
        log = host.log()
    has_its_cores(log, 2_000_000, 0.4)
    past_seen = recording_file.read_all(tmp_path / "a.nimblewatch")[2]
    hidden = past_seen.no_cycle + past_seen.unseen
    inside = (log.due > past_seen.begun) & (log.due < past_seen.ended - 10_000_000)
    assert found["seconds"] < 5 < 0.002 * inside.sum()
    assert found["past"]["played"] + hidden == pytest.approx(0.002 * inside.sum(), rel=0.05, abs=0.1)
    # Every block that is late by its own doing, one in a second and a half, is in a dropout.
    own = [due for due in log.due[::750].tolist() if past_seen.begun < due < past_seen.ended - 10_000_000]
    assert len(own) >= 3
    missed = [due for due in own if not any(e.time - 1_000_000 < due < e.ended for e in past_seen.dropouts)]
    # But for those that came while nothing could be told, and it is said for how long that was.
    assert len(missed) <= (hidden // 1.5 + 1 if hidden >= 0.1 else 0)
    again = json.loads(run("--from", tmp_path / "a.nimblewatch", "--json").stdout)
    assert again["past"] == found["past"]
