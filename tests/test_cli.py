"""The shell: the same figures as the window, refusals in a sentence and an exit code."""

from __future__ import annotations

import json

import pytest
from click.testing import CliRunner

from nimbleload.cli import cli
from nimbleload.core.session import Machine, PluginRef, PluginUse, Strip
from nimbleload.store import session_file
from nimbleload.store.session_file import Saved
from tests.helpers import exchange as x
from tests.helpers.sessions import bus, cards_for, session, track


def run(*words: str):
    return CliRunner().invoke(cli, list(words))


def figures(*words: str):
    result = run(*words, "--json")
    assert result.exit_code == 0, result.output
    return json.loads(result.output)


@pytest.fixture
def saved(tmp_path):
    of = session(track("a", "eq", "comp"), track("b", "eq", clips=((2, 4),)))
    path = tmp_path / "a.nimbleload"
    cards = tuple(cards_for(of, {"eq": 1e-3, "comp": 2e-3}, silent=0.0).values())
    session_file.write(path, Saved(of, cards=cards, machine=Machine(1), buffer=256))
    return path


def test_load_says_the_sum_on_one_core(saved):
    found = figures("load", str(saved))
    assert found["load"] == pytest.approx(4e-3 / (256 / 48000))
    assert found["load"] == next(r["load"] for r in found["ladder"] if r["buffer"] == 256)
    assert 2 <= found["second"] <= 4
    assert found["tracks_by_cost"][0][0] == "a"


def test_a_position_a_buffer_and_cores_can_be_given(saved):
    found = figures("load", str(saved), "--at", "0:01", "--buffer", "512", "--cores", "2")
    assert (found["second"], found["buffer"], found["cores"]) == (1.0, 512, 2)
    assert found["load"] == pytest.approx(3e-3 / (256 / 48000))
    assert "no position" in run("load", str(saved), "--at", "soon").output


def test_the_words_hold_the_same_figures(saved):
    said, found = run("load", str(saved)).output, figures("load", str(saved))
    assert found["headline"] in said
    assert found["advice"] in said
    assert "> " in said


def test_the_demo_is_a_file_argument():
    found = figures("load", "demo")
    assert found["cores"] == 6
    assert found["figures_from"] == {"sample": pytest.approx(1.0)}
    assert "sample figures, not from this computer" in run("load", "demo").output


@pytest.mark.parametrize("command", ["load", "measure"])
def test_what_cannot_be_opened_ends_with_a_sentence(tmp_path, command):
    path = tmp_path / "bad.nimbleload"
    path.write_bytes(b"x")
    result = run(command, str(path))
    assert result.exit_code == 1
    assert "bad.nimbleload is damaged or no session file" in result.output
    assert "Traceback" not in result.output


def test_a_circle_ends_with_a_sentence(tmp_path):
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(session(bus("A", output="B"), bus("B", output="A"))))
    result = run("load", str(path))
    assert result.exit_code == 1
    assert "the routing runs in a circle: " in result.output


def test_import_writes_beside_and_reports(tmp_path):
    structure = x.track("t", "Voice", x.channel("c", devices="<Equalizer deviceName='Tone'/>")) + x.main_track()
    path = x.write(tmp_path / "song.dawproject", x.project(structure, x.lanes("t", x.clip(0, 8))))
    before = path.read_bytes()
    result = run("import", str(path))
    assert result.exit_code == 0
    assert "understood: 1 tracks" in result.output
    assert "left out:   “Tone”" in result.output
    assert path.read_bytes() == before
    assert session_file.read(tmp_path / "song.nimbleload").session.strips[0].name == "Voice"
    assert "should end in" in run("import", str(path), "--to", str(tmp_path / "x.zip")).output


def test_measure_stores_and_does_not_measure_twice(tmp_path):
    use = PluginUse("a/0", PluginRef("house", "house.sluice", "Sluice"))
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(session(Strip("a", "A", inserts=(use,), output="main"))))
    first = figures("measure", str(path), "--quick", "--buffer", "64")
    assert (first["cards"], first["measured"], first["failed"]) == (1, 1, {})
    again = figures("measure", str(path), "--quick", "--buffer", "64")
    assert again["measured"] == 0
    assert figures("load", str(path), "--buffer", "64")["figures_from"] == {"measured": 1.0}


def test_measure_says_what_failed(tmp_path):
    path = tmp_path / "a.nimbleload"
    session_file.write(
        path, Saved(session(Strip("a", "A", inserts=(PluginUse("x", PluginRef("au", "y", "Z")),), output="main")))
    )
    result = run("measure", str(path))
    assert "Z (as it starts): cannot be measured yet" in result.output
    assert "0 measured, 1 failed" in result.output


def test_a_typed_reading_counts_and_is_told(tmp_path):
    of = session(track("a", "Meter Thing"))
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(of, machine=Machine(1)))
    assert "has no plugin named" in run("library", "reading", str(path), "Other", "5", "--buffer", "256").output
    assert "12 % of one core" in run("library", "reading", str(path), "meter thing", "12", "--buffer", "256").output
    found = figures("load", str(path), "--buffer", "256")
    assert found["load"] == pytest.approx(0.12)
    assert found["figures_from"] == {"typed": 1.0}
    assert "100 % of this load: typed in." in run("load", str(path), "--buffer", "256").output
    assert figures("load", str(path), "--buffer", "512")["figures_from"] == {"scaled": 1.0}


def test_the_library_goes_out_and_in(tmp_path):
    of = session(track("a", "eq"))
    path, table = tmp_path / "a.nimbleload", tmp_path / "costs.csv"
    session_file.write(path, Saved(of))
    run("library", "reading", str(path), "eq", "5", "--buffer", "256")
    assert run("library", "export", str(table)).exit_code == 0
    assert "typed in,eq,test,eq" in table.read_text()
    assert "1 rows taken in." in run("library", "import", str(table)).output
    table.write_text("nonsense")
    assert "no column" in run("library", "import", str(table)).output


def test_plugins_are_listed_and_found_by_words(rogue):
    found = figures("plugins", "test.good", "--standard", "clap")
    assert [p["identifier"] for p in found["plugins"]] == ["test.good"]
    assert "1 plugins." in run("plugins", "test.good").output
