"""The computer from a shell: findings, remedies, the ceiling, exit codes."""

from __future__ import annotations

import json
import os
import pty
import subprocess
import sys

import msgspec
import pytest
from click.testing import CliRunner

from nimbleload.core.computer.ceiling import Ceiling, Held
from nimbleload.core.computer.facts import Facts, Kernel
from nimbleload.core.computer.lasting import Lasting, Stretch
from nimbleload.demo import computer as example
from nimbleload.machine import hold, lasting
from nimbleload.shell import cli
from nimbleload.store import ceiling_file, session_file
from nimbleload.store.this_computer import this_computer
from tests.helpers.sessions import cards_for, session, track

TRIAL = Held(0.8, 100, 0, 0.9, True)


def run(*words):
    return CliRunner().invoke(cli, [str(word) for word in words])


def test_what_matters_comes_first_with_its_remedy(monkeypatch):
    monkeypatch.setattr("nimbleload.shell.machine.look", lambda **_: example.facts())
    said = run("machine", "--seconds", 0)
    assert said.exit_code == 3
    assert said.output.startswith("4 findings matter")
    assert "  now:  echo performance | sudo tee" in said.output
    assert "In order: " in said.output and "Memory" in said.output.split("In order: ")[1]
    everything = run("machine", "--seconds", 0, "--all").output
    assert "In order: Memory" in everything
    figures = json.loads(run("machine", "--seconds", 0, "--json").output)
    assert [each["grade"] for each in figures["findings"]].count("matters") == 4
    assert figures["facts"]["kernel"]["release"] == "6.1.0-18-amd64"


def test_a_computer_in_order_ends_with_nought(monkeypatch):
    monkeypatch.setattr("nimbleload.shell.machine.look", lambda **_: Facts(kernel=Kernel("6.12", "full")))
    assert run("machine", "--seconds", 0).exit_code == 0


def test_this_computer_can_be_looked_at():
    said = run("machine", "--seconds", 0)
    assert said.exit_code in (0, 3)
    assert "Room on the disk" in said.output


@pytest.fixture
def own_file(tmp_path, monkeypatch):
    path = tmp_path / "ceiling.json"
    monkeypatch.setattr(ceiling_file, "file", lambda: path)
    return path


@pytest.mark.usefixtures("own_file")
def test_the_ceiling_is_told_and_kept(monkeypatch):
    def trials(asked):
        for each in asked:
            yield hold.Progress(each.buffer, Held(0.85, 100, 4, 1.3, True))
            made = Ceiling(each.buffer, each.rate, len(each.cores), each.seconds, 0.8, 0.78, 0.85, trials=(TRIAL,))
            yield hold.Progress(each.buffer, TRIAL, made)

    monkeypatch.setattr(hold, "ask", trials)
    said = run("ceiling", "--buffer", 128, "--buffer", 256, "--cores", 1, "--seconds", 0.5)
    assert said.exit_code == 0, said.output
    assert "128 samples, 1 core: 80 % is held (78 % to 85 %)." in said.output
    assert [each.buffer for each in ceiling_file.read()] == [128, 256]
    figures = json.loads(run("ceiling", "--buffer", 512, "--cores", 1, "--json").output)
    assert [each["buffer"] for each in figures] == [512]
    assert len(ceiling_file.read()) == 3


@pytest.mark.usefixtures("own_file")
def test_without_real_time_that_is_said(monkeypatch):
    refused = Held(0.8, 100, 0, 0.9, False)
    made = Ceiling(256, 48000, 1, 1.0, 0.8, 0.78, 0.85, trials=(refused,))
    monkeypatch.setattr(hold, "ask", lambda asked: iter([hold.Progress(256, refused, made)]))
    assert "Real time was refused" in run("ceiling", "--buffer", 256).output


@pytest.mark.usefixtures("own_file")
def test_a_search_that_ends_early_is_a_sentence(monkeypatch):
    def broken(asked):
        raise RuntimeError("it ended with code 9")
        yield

    monkeypatch.setattr(hold, "ask", broken)
    said = run("ceiling", "--buffer", 256)
    assert said.exit_code == 1 and "it ended with code 9" in said.output


def test_a_test_load_is_held_for_as_long_as_it_is_asked_for():
    said = CliRunner().invoke(cli, ["test-load", "--load", "10", "--cores", "1", "--seconds", "4", "--json"])
    assert said.exit_code == 0, said.output
    told = json.loads(said.output)
    assert told["reports"] and all(report["load"] == 0.1 for report in told["reports"])
    assert told["clean_to"] == 0.1 and told["crackles_from"] is None
    words = CliRunner().invoke(cli, ["test-load", "--load", "10", "--cores", "1", "--seconds", "1"])
    assert "10 % of the core in blocks of 256 samples" in words.output
    assert CliRunner().invoke(cli, ["test-load", "--load", "95"]).exit_code == 2


def test_keys_of_a_terminal_raise_it_note_crackles_and_end_it():
    master, slave = pty.openpty()
    words = [sys.executable, "-m", "nimbleload", "test-load", "--load", "10", "--cores", "1", "--seconds", "60"]
    with subprocess.Popen(words, stdin=slave, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        assert "10 % of the core" in process.stderr.readline()
        for key in b"+cq":
            os.write(master, bytes([key]))
        out, _ = process.communicate(timeout=60)
    for end in (master, slave):
        os.close(end)
    assert process.returncode == 0
    assert "crackles with 15 %" in out


@pytest.mark.usefixtures("own_file")
def test_how_long_the_pace_lasts_is_told_and_kept(monkeypatch):
    def stretches(load, most):
        for count in range(1, 61):
            each = (Stretch(5.0 * k, 1.0 if k < 7 else 1.3, 900, 0, True) for k in range(1, count + 1))
            yield Lasting(load, 256, 48000, 4, tuple(each))
            if 5 * count >= most:
                return

    monkeypatch.setattr(lasting, "ask", stretches)
    said = run("pace", "--load", 60)
    assert said.exit_code == 0, said.output
    assert "  0:35: the work takes 1.30 times as long as at first. At least 3 min more.\n" in said.output
    assert "60 % on 4 cores for 5 min: after 0:30 the same work, and any plugin, takes 1.30 times" in said.output
    assert ceiling_file.read_lasting().load == 0.6
    told = json.loads(run("pace", "--minutes", 2, "--json").stdout)
    assert (told["seconds"], told["since"], told["is_known"], told["is_level"]) == (120.0, 30.0, True, False)
    assert told["slower"] == 1.3 and len(told["stretches"]) == 24
    # What is too short to tell is not kept.
    assert run("pace", "--minutes", 0.5).stdout.startswith("Not long enough")
    assert ceiling_file.read_lasting().seconds == 120.0


@pytest.mark.usefixtures("own_file")
def test_a_pace_that_is_not_found_is_a_sentence(monkeypatch):
    def broken(*_):
        raise RuntimeError("it ended with code 9")
        yield

    monkeypatch.setattr(lasting, "ask", broken)
    said = run("pace")
    assert said.exit_code == 1 and "How long the pace lasts was not found: it ended with code 9." in said.output


@pytest.mark.usefixtures("own_file")
def test_a_load_is_told_with_what_becomes_of_it_in_the_end(tmp_path):
    of = session(track("a", "p"), limit=0.5)
    path = tmp_path / "a.nimbleload"
    saved = session_file.Saved(of, cards=tuple(cards_for(of, {"p": 0.45 * 256 / 48000}).values()), buffer=256)
    session_file.write(path, msgspec.structs.replace(saved, machine=this_computer()))
    assert "has worked for a while" not in run("load", path).output
    assert json.loads(run("load", path, "--json").output)["slower_in_the_end"] == 1.0
    paces = (Stretch(5.0 * k, 1.0 if k < 7 else 1.4, 900, 0, True) for k in range(1, 61))
    ceiling_file.keep_lasting(Lasting(0.5, 256, 48000, 2, tuple(paces)))
    assert "When this computer has worked for a while the same takes 1.40 times as long: 6" in run("load", path).output
    assert json.loads(run("load", path, "--json").output)["slower_in_the_end"] == 1.4
    # Of another computer nobody knows.
    assert "has worked for a while" not in run("load", path, "--cores", this_computer().cores + 1).output
