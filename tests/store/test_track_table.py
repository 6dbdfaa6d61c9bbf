"""Tables as spreadsheets write them: separators, commas, encodings, times; and rows that cannot be."""

from __future__ import annotations

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.probe.choosing import Lookup, choices
from nimbleload.store import track_table
from nimbleload.store.found import NothingFoundError

COMP = PluginUse("", PluginRef("clap", "org.x.comp", "Good Comp", "X", "2"), family="dynamics")
SYNTH = PluginUse("", PluginRef("lv2", "urn:synth", "Synth"), family="instrument", voices=8)


def find(name, standard):
    return {"Good Comp": COMP, "urn:synth": SYNTH}.get(name)


def read(tmp_path, text, encoding="utf-8"):
    path = tmp_path / "tracks.csv"
    path.write_bytes(text.encode(encoding))
    return track_table.read(path, find)


def strip(found, name):
    return next(strip for strip in found.session.strips if strip.name == name)


def test_rows_of_one_track_are_its_chain_and_its_stretches(tmp_path):
    found = read(
        tmp_path,
        "track,bus,plugin,setting,from,to\nVoice,Voices,Good Comp,ratio=3 drive=1.5,0:10,1:05.5\n"
        "Voice,,Other,,1:02:03,1:02:04\nPad,,urn:synth,,,\n",
    )
    voice = strip(found, "Voice")
    assert [use.label for use in voice.inserts] == ["Good Comp", "Other"]
    assert voice.inserts[0].plugin == COMP.plugin and voice.inserts[0].setting.values == (("ratio", 3), ("drive", 1.5))
    assert [(clip.start, clip.end) for clip in voice.clips] == [(10, 65.5), (3723, 3724)]
    assert voice.output == strip(found, "Voices").id and strip(found, "Voices").kind == "bus"
    assert strip(found, "Pad").instrument.plugin == SYNTH.plugin
    assert found.session.strips[-1].kind == "main" and found.session.length == 3724
    assert "1 plugin is not installed here" in found.report.left_out[-1]


@pytest.mark.parametrize(
    "text, encoding",
    [
        ("track;plugin;setting;from;to\nFlöte;Good Comp;a=1,5;0,5;2,25\n", "utf-8-sig"),
        ("track;plugin;setting;from;to\nFlöte;Good Comp;a=1,5;0,5;2,25\n", "cp1252"),
        ("track\tplugin\tsetting\tfrom\tto\nFlöte\tGood Comp\ta=1.5\t0.5\t2.25\n", "utf-16"),
        ('track,plugin,setting,from,to\r\nFlöte,Good Comp,"a=1,5","0,5","2,25"\r\n', "utf-8"),
    ],
)
def test_however_a_spreadsheet_writes_it(tmp_path, text, encoding):
    flute = strip(read(tmp_path, text, encoding), "Flöte")
    assert flute.inserts[0].setting.values == (("a", 1.5),)
    assert (flute.clips[0].start, flute.clips[0].end) == (0.5, 2.25)


def test_kinds_sends_notes_and_sections(tmp_path):
    found = read(
        tmp_path,
        "track,kind,send to,plugin,voices,from,to,section\nPad,track,Hall,urn:synth,5,0,10,\n"
        "Pad,,,,3,20,30,\nGroup,bus,,,,,,\n,,,,,12,,Chorus\nOut,main,,Good Comp,,,,\n",
    )
    pad = strip(found, "Pad")
    assert pad.sends[0].target == strip(found, "Hall").id and strip(found, "Hall").kind == "return"
    assert [(clip.kind, clip.voices) for clip in pad.clips] == [("notes", ((0.0, 5),)), ("notes", ((20.0, 3),))]
    assert pad.instrument.voices == 5
    assert [(section.name, section.start) for section in found.session.sections] == [("Chorus", 12)]
    assert pad.output == strip(found, "Out").id and [s.kind for s in found.session.strips].count("main") == 1


def test_rows_that_cannot_be_are_named_and_the_rest_taken(tmp_path):
    found = read(
        tmp_path,
        "track,kind,plugin,setting,voices,from,to\nA,,,,,0,5\nB,drum,,,,,\n,,x,,,,\nC,,Good Comp,ratio,,,\n"
        "D,,,,,5,2\nE,,,,,one,2\nF,,urn:synth,,1.5,,\nG,,,,,0:0:0:1,2\nH,,,,,3,\nI,,Good Comp,a=nan,,,\nJ,,,,,0,5\n",
    )
    assert [s.name for s in found.session.strips if s.clips] == ["A", "J"]
    assert [line.split(":")[0] for line in found.report.left_out] == [f"Row {k}" for k in range(3, 12)]


def test_a_second_instrument_is_refused_and_an_unknown_column_said(tmp_path):
    found = read(tmp_path, "track,plugin,colour\nPad,urn:synth,red\nPad,urn:synth,blue\n")
    assert "not known: colour" in found.report.left_out[0] and "has an instrument already" in found.report.left_out[1]


@pytest.mark.parametrize(
    "text, words",
    [
        ("", "is empty"),
        ("\n\n\n", "is empty"),
        ("name,plugin\na,b\n", "no column “track”"),
        ("track,plugin\n", "names no track"),
        ("track,bus\nA,B\nB,A\n", "circle"),
        ("track\n" + "x" * 200_000, "is no table|names no track|field"),
    ],
)
def test_what_is_no_table_is_a_sentence(tmp_path, text, words):
    with pytest.raises(NothingFoundError, match=words):
        read(tmp_path, text)


def test_nul_bytes_and_binary_are_a_sentence_or_rows(tmp_path):
    path = tmp_path / "a.csv"
    path.write_bytes(bytes(range(256)) * 20)
    with pytest.raises(NothingFoundError):
        track_table.read(path, find)


def test_the_template_can_be_read(tmp_path):
    found = read(tmp_path, track_table.TEMPLATE)
    assert set(track_table.TEMPLATE.splitlines()[0].split(",")) == set(track_table.COLUMNS)
    assert [s.name for s in found.session.strips] == ["Narrator", "Pad", "Hall", "Voices", "Main"]
    assert len(strip(found, "Narrator").inserts) == 2 and found.session.sections[0].name == "Chorus"
    assert not [line for line in found.report.left_out if line.startswith("Row")]


def test_plugins_are_found_by_name_whatever_its_blanks_and_standard():
    by = Lookup([SYNTH, COMP, *choices([])])
    assert by("good comp", "") is COMP and by("GoodComp", "clap") is COMP and by("Good Comp", "lv2") is None
    assert by("Shoreline", "").plugin.identifier == "house.shoreline" and by("house.tar", "house").label == "Tar"
    assert by("nothing", "") is None
    assert by.near("comp good") == [COMP.label] and by.near("shore house") == ["Shoreline"] and by.near("nothing") == []
