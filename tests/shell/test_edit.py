"""Making and changing sessions from a shell."""

from __future__ import annotations

import struct
import threading
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from click.testing import CliRunner

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import Setting
from nimbleload.probe import catalogue
from nimbleload.shell import cli
from nimbleload.shell.edit_verbs import VERBS
from nimbleload.store import dawproject, session_file
from tests.probe.test_plugin_window import hands, library, screen  # noqa: F401

REAL_CATALOGUE = catalogue.catalogue


@pytest.fixture(autouse=True)
def _here(tmp_path, monkeypatch):
    """In a folder of its own, with no plugins installed but the house's."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(catalogue, "catalogue", lambda *_, **__: [])


def run(*arguments, fails=False, **more):
    result = CliRunner().invoke(cli, arguments, **more)
    assert (result.exit_code != 0) == fails, result.output
    return result.output


def session(name="a.nimbleload"):
    return session_file.read(Path(name)).session


def stem(path):
    path.parent.mkdir(exist_ok=True)
    soundfile.write(path, np.random.default_rng(0).uniform(-0.5, 0.5, 8000), 8000)


def test_a_session_from_nothing_to_a_load(tmp_path):
    run("new", "a.nimbleload", "--rate", "44100", "--bpm", "90", "--length", "2:30", "--cores", "4")
    run(
        "edit", "a.nimbleload", "add bus Band", 'add track "Lead Voice" 2', "route 'Lead Voice 1' Band",
        "insert 'Lead Voice 1' Shoreline", "insert 'Lead Voice 1' tar 1", "set 'Lead Voice 1/Shoreline' Bands=12",
        "insert 'Lead Voice 2' house:Sluice", "replace 'Lead Voice 2/1' house:Vault",
        "clip 'Lead Voice 1' 0:10 1:00", "section Verse 0:10", "arm 'Lead Voice 2'",
    )  # fmt: skip
    made = session()
    lead = made.strips[1]
    assert (made.rate, made.length, made.tempo[0].bpm) == (44100, 150, 90)
    assert [use.label for use in lead.inserts] == ["Tar", "Shoreline"] and lead.output == made.strips[0].id
    assert dict(lead.inserts[1].setting.values)["bands"] == 12 and made.strips[2].armed
    assert [use.label for use in made.strips[2].inserts] == ["Vault"]
    said = run("load", "a.nimbleload")
    # What is not known is no load of nothing.
    assert "Nothing is measured yet" in said and "%" not in said.split("Nothing is measured yet")[1]


def test_new_never_writes_over_a_session():
    run("new", "a.nimbleload")
    assert "was not changed" in run("new", "a.nimbleload", fails=True)
    run("new", "a.nimbleload", "--replace")
    assert "does not end in .nimbleload" in run("new", "a.txt", fails=True)
    assert "not possible" in run("new", "b.nimbleload", "--rate", "3", fails=True)


def test_edits_are_all_made_or_none():
    run("new", "a.nimbleload")
    before = session()
    said = run("edit", "a.nimbleload", "add track A", "frobnicate A", fails=True)
    assert "Edit 2, frobnicate A: “frobnicate” is no edit" in said and "Nothing was written" in said
    assert session() == before
    run("edit", "a.nimbleload", "-", input="add track A\n\nrename A B\n")
    assert session().strips[0].name == "B"


@pytest.mark.parametrize(
    "line, words",
    [
        ("rename X Y", "no track is called “X”"),
        ("rename Bas Y", "there is Bass"),
        ("rename Twin Y", "2 tracks are called"),
        ("rename Bass", "is not complete"),
        ("bypass Bass", "names no plugin"),
        ("bypass Bass/9", "it has 1 Tar, 2 Tar"),
        ("bypass Bass/Tar", "2 plugins called Tar"),
        ("insert Bass Nothing", "no plugin “Nothing” is installed"),
        ("replace Bass/1 Shore", "no plugin is called “Shore”; there is Shoreline"),
        ("clip Bass one 2", "which is no number"),
        ("set Bass/1 drive", "not of the form"),
        ("set Bass/1 Drive=2 dirve=3", "Tar has no parameter “dirve”; it has drive, "),
        ("add piano X", "cannot be added"),
        ("send Bass Band 1 sideways", "pre or post"),
        ("route Band Bass", "circle"),
        ("rename 'Bass", "not understood"),
        ("add track X 1.5", "whole number"),
        ("add track X nan", "which is no number"),
        ("shift Bass inf", "which is no number"),
    ],
)
def test_what_cannot_be_is_said_with_the_way_out(line, words):
    run("new", "a.nimbleload")
    run("edit", "a.nimbleload", "add bus Band", "add track Bass", "route Bass Band", "add track T 2",
        "insert Bass tar", "insert Bass tar")  # fmt: skip
    made = session()
    strips = [msgspec.structs.replace(s, name="Twin") if s.name.startswith("T ") else s for s in made.strips]
    session_file.write(
        Path("a.nimbleload"),
        session_file.Saved(msgspec.structs.replace(made, strips=tuple(strips))),
    )
    assert words in run("edit", "a.nimbleload", line, fails=True)


def test_every_verb_is_listed_and_does_something():
    run("new", "a.nimbleload")
    run("edit", "a.nimbleload", "add bus Band", "add return Hall", "add track A 2", "insert 'A 1' tar",
        "insert 'A 2' tar", "insert 'A 1' Sluice", "clip 'A 1' 0 10", "send 'A 2' Band", "section Y 1")  # fmt: skip
    lines = {
        "add": "add track New", "rename": "rename 'A 1' Z", "duplicate": "duplicate 'A 1'", "remove": "remove 'A 1'",
        "move": "move 'A 1' 1", "route": "route 'A 1' Band", "send": "send 'A 1' Hall 0.5 pre",
        "unsend": "unsend 'A 2' Band", "arm": "arm 'A 1'",
        "width": "width 'A 1' 1", "off": "off 'A 1'", "insert": "insert 'A 1' Vault 1",
        "take-out": "take-out 'A 1/1'", "put": "put 'A 1/1' 'A 2'", "replace": "replace 'A 1/1' Sluice",
        "bypass": "bypass 'A 1/1'", "set": "set 'A 1/Tar' drive=3",
        "preset": "preset 'A 1/Tar' tar.state", "listen": "listen 'A 1/1' 'A 2'",
        "clip": "clip 'A 2' 0:01 0:02", "clear": "clear 'A 1' 0:02 0:04", "shift": "shift 'A 1' 5",
        "section": "section X 0:05", "move-section": "move-section y 0:09", "take-section": "take-section Y",
        "take": "take 'A 2' Mine", "tempo": "tempo 77",
        "bars": "bars 6/8", "pan-law": "pan-law -4.5",
        "rate": "rate 96000", "length": "length 9:00",
    }  # fmt: skip
    Path("tar.state").write_bytes(b"state")
    undone = {"disarm": "arm 'A 1'", "on": "off 'A 1'", "unbypass": "bypass 'A 1/1'"}
    run("edit", "a.nimbleload", "keep 'A 1' Mine")
    before = session()
    listed = run("edit", "a.nimbleload", "--verbs")
    for verb in VERBS:
        assert f"{verb} " in listed
        if verb == "keep":
            # It leaves the session as it is: a test of its own.
            continue
        if verb == "window":
            # It opens only where there is a display, and what has one: a test of its own.
            assert "its standard has none" in run("edit", "a.nimbleload", "window 'A 1/Tar'", fails=True)
            continue
        line = lines.get(verb)
        if line is None:
            first = undone[verb]
            run("edit", "a.nimbleload", first, "--to", "b.nimbleload")
            changed = session("b.nimbleload")
            assert changed != before
            run("edit", "b.nimbleload", first.replace(first.split()[0], verb))
            assert session("b.nimbleload") == before, verb
        else:
            run("edit", "a.nimbleload", line, "--to", "b.nimbleload")
            assert session("b.nimbleload") != before, verb
    assert session() == before


def test_a_section_that_there_is_not_is_refused_by_name():
    run("new", "a.nimbleload")
    said = run("edit", "a.nimbleload", "section Dawn 1", "take-section Dusk", fails=True)
    assert "there is no section 'Dusk'; there are: Dawn" in said


def test_presets_and_state_files_are_tried_before_they_are_taken(tmp_path, monkeypatch):
    monkeypatch.setattr(catalogue, "catalogue", REAL_CATALOGUE)
    if not Path("/usr/lib/lv2/ZaMultiComp.lv2").is_dir():
        pytest.skip("zam-plugins is not installed")
    run("new", "a.nimbleload")
    run("edit", "a.nimbleload", "add track Drums", "insert Drums urn:zamaudio:ZaMultiComp", "preset Drums/1 presence")
    state = session().strips[0].inserts[0].setting.state
    assert state == b"urn:zamaudio:ZaMultiComp#preset002"
    said = run("edit", "a.nimbleload", "preset Drums/1 nothing", fails=True)
    assert "has no preset “nothing” (it has Presence, Zero), and no such file is there" in said
    (tmp_path / "junk.ttl").write_text("this is no Turtle")
    said = run("edit", "a.nimbleload", "preset Drums/1 junk.ttl", fails=True)
    assert "does not take junk.ttl" in said
    assert session().strips[0].inserts[0].setting.state == state
    run("edit", "a.nimbleload", "preset Drums/1 none")
    assert session().strips[0].inserts[0].setting == Setting()


def test_a_chain_is_kept_for_another_session():
    run("new", "a.nimbleload")
    run("edit", "a.nimbleload", "add track A", "insert A Sluice", "insert A Vault", "keep A Warm")
    run("new", "b.nimbleload")
    run("edit", "b.nimbleload", "add track B", "insert B tar", "take B Warm 1")
    assert [use.label for use in session("b.nimbleload").strips[0].inserts] == ["Sluice", "Vault", "Tar"]
    said = run("edit", "b.nimbleload", "take B Cold", fails=True)
    assert "Nothing is kept as Cold; on the shelf there is Warm" in said
    assert "no plugins to keep as Empty" in run("edit", "b.nimbleload", "add track C", "keep C Empty", fails=True)


def test_what_is_set_in_a_plugins_own_window_is_taken_when_it_is_closed(hands, library, monkeypatch):  # noqa: F811
    monkeypatch.setattr(catalogue, "catalogue", REAL_CATALOGUE)
    monkeypatch.setenv("CLAP_PATH", str(library.parent))
    run("new", "a.nimbleload")
    run("edit", "a.nimbleload", "add track Drums", "insert Drums good")

    def click_and_close():
        shown = hands.find("good on Drums", 60)
        hands.drag(hands.below(shown)[0], 10, 10, 0)
        hands.ask_to_close(shown)

    user = threading.Thread(target=click_and_close)
    user.start()
    said = run("edit", "a.nimbleload", "window Drums/1")
    user.join()
    assert "What was set in good's window is in the session now." in said
    assert struct.unpack("d", session().strips[0].inserts[0].setting.state) == (0.75,)
    said = run("edit", "a.nimbleload", "replace Drums/1 bare", "window Drums/1", fails=True)
    assert "window Drums/1: bare has no window of its own. Nothing was written." in said


def test_a_plan_goes_along_with_edits():
    run("new", "a.nimbleload")
    run("edit", "a.nimbleload", "add track A", "add track B", "insert A tar")
    saved = session_file.read(Path("a.nimbleload"))
    plan = Plan((Decision("off", "track1"), Decision("off", "track2")))
    session_file.write(Path("a.nimbleload"), msgspec.structs.replace(saved, plan=plan))
    run("edit", "a.nimbleload", "remove A")
    assert session_file.read(Path("a.nimbleload")).plan.decisions == (Decision("off", "track2"),)


def test_folders_and_tables_are_added_to_what_is_there(tmp_path):
    stem(tmp_path / "stems" / "Kick.wav")
    (tmp_path / "t.csv").write_text("track,plugin\nPad,Shoreline\nPad,Elsewhere\n")
    said = run("add", "a.nimbleload", "stems")
    assert "1 audio files" in said and session().rate == 8000
    said = run("add", "a.nimbleload", "t.csv", "--show")
    assert "Nothing was written" in said and len(session().strips) == 2
    said = run("add", "a.nimbleload", "t.csv")
    assert "Elsewhere" in said
    assert [s.name for s in session().strips] == ["Kick", "Pad", "Main"] and session().strips[1].output == "main"
    assert session().name == "a"
    run("add", "a.nimbleload", "a.nimbleload", "--to", "b.nimbleload")
    assert [s.name for s in session("b.nimbleload").strips] == ["Kick", "Pad", "Kick 2", "Pad 2", "Main"]
    figures = msgspec.json.decode(run("add", "a.nimbleload", "stems", "--json"))
    assert figures["tracks"] == ["Kick", "Main"] and figures["written"] == "a.nimbleload"


@pytest.mark.parametrize(
    "source, words", [("none", "is not there"), ("x.pdf", "can be added"), ("empty", "no audio files"),
                      ("bad.mid", "no standard MIDI file"), ("bad.nimbleload", "Nothing was added")],
)  # fmt: skip
def test_what_cannot_be_added_is_said(tmp_path, source, words):
    (tmp_path / "empty").mkdir()
    for name in ("x.pdf", "bad.mid", "bad.nimbleload"):
        (tmp_path / name).write_text("x")
    assert words in run("add", "a.nimbleload", source, fails=True)
    assert not (tmp_path / "a.nimbleload").exists()


def test_the_template_is_printed_and_can_be_added(tmp_path):
    (tmp_path / "t.csv").write_text(run("add", "--template"))
    run("add", "a.nimbleload", "t.csv")
    assert len(session().strips) == 5
    assert "takes a session FILE" in run("add", fails=True)


def test_how_many_more_fit_says_so_in_words_and_figures():
    figures = msgspec.json.decode(run("howmany", "demo", "Lantern", "--cores", "24", "--json"))
    by_size = {fit["buffer"]: fit for fit in figures["fits"]}
    largest = by_size[4096]
    assert largest["more"] > 0 and largest["load"] <= figures["limit"] < largest["beyond"]
    # There is no telling how much memory another computer has.
    assert figures["room_in_memory"] is None
    assert msgspec.json.decode(run("howmany", "demo", "Lantern", "--json"))["room_in_memory"] > 1000
    said = run("howmany", "demo", "Lantern/1", "--limit", "60")
    assert "samples" in said and "%" in said
    assert "no track is called" in run("howmany", "demo", "Nobody", fails=True)
    run("new", "a.nimbleload")
    run("edit", "a.nimbleload", "add track A", "insert A tar", "clip A 0 10")
    assert "Not measured yet" in run("howmany", "a.nimbleload", "A")
    tried = run("howmany", "a.nimbleload", "A", "--try", "0.5")
    assert "256 more of A, or more still" in tried and "Rehearsed with 256 more. " in tried and "Predicted" in tried


def test_a_session_made_here_is_exported_and_read_back_the_same(tmp_path):
    stem(tmp_path / "stems" / "Kick.wav")
    run("add", "a.nimbleload", "stems")
    run("edit", "a.nimbleload", "insert Kick Shoreline", "add bus Band", "route Kick Band", "add return Hall",
        "send Kick Hall 0.5", "shift Kick 3")  # fmt: skip
    run("export", "a.nimbleload", "--to", "a.dawproject")
    back, own = dawproject.read(tmp_path / "a.dawproject"), session()
    assert [(s.name, s.kind, s.output) for s in back.session.strips] == [(s.name, s.kind, s.output) for s in own.strips]
    kick = next(s for s in back.session.strips if s.name == "Kick")
    assert [use.card_key() for use in kick.inserts] == [use.card_key() for use in own.strips[0].inserts]
    assert (kick.clips[0].start, kick.clips[0].end) == pytest.approx((3, 4), abs=0.02)
    (part,) = back.audio[kick.id].parts
    assert part.outside and part.file == str(tmp_path / "stems" / "Kick.wav") and part.offset == pytest.approx(0)
    assert "was not changed" in run("export", "a.nimbleload", "--to", "a.dawproject", fails=True)
    assert "should end in" in run("export", "a.nimbleload", "--to", "a.zip", fails=True)


def test_a_pared_down_copy(tmp_path):
    out = run("pare", "demo", "Fiddle", "--section", "storm", "--to", str(tmp_path / "a.dawproject"))
    assert "Left out: 80 tracks, " in out
    back = dawproject.read(tmp_path / "a.dawproject").session
    storm = next(k for k, s in enumerate(back.sections) if s.name == "Storm")
    ends = back.sections[storm].start, back.sections[storm + 1].start
    clips = next(s for s in back.strips if s.name == "Fiddle").clips
    assert clips
    assert all(clip.end > ends[0] and clip.start < ends[1] for clip in clips)
    out = run("pare", "demo", "Fiddle", "--from", "1:00", "--to", str(tmp_path / "a.dawproject"), fails=True)
    assert "is there already and was not changed" in out
    out = run("pare", "demo", "Fidle", "--to", str(tmp_path / "b.dawproject"), fails=True)
    assert "no track is called" in out
    out = run("pare", "demo", "Fiddle", "--section", "nowhere", "--to", str(tmp_path / "b.dawproject"), fails=True)
    assert "there are: Quay, Storm" in out
    assert not (tmp_path / "b.dawproject").exists()
