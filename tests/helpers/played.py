"""Builds played.c, an instrument that puts out what it is told, as LV2, CLAP and VST3; and what is played on it."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import mido
import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.deliver import carrying, render
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers.searching import apart, built_once, found_once
from tests.helpers.stems import RATE

FREEZE = Plan((Decision("freeze", "t"),))
SOURCE = Path(__file__).with_name("played.c")
FILES = {"lv2": "played.lv2/played.so", "clap": "played.clap", "vst3": "played.vst3"}
DEVICES = {
    "lv2": ("BuiltinDevice", "lv2:urn:nimble-test:played"), "clap": ("ClapPlugin", "test.played"),
    "vst3": ("Vst3Plugin", b"nimbletestplays\0".hex().upper()),
}  # fmt: skip
TURTLE = """
@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix doap: <http://usefulinc.com/ns/doap#> .
@prefix atom: <http://lv2plug.in/ns/ext/atom#> . @prefix midi: <http://lv2plug.in/ns/ext/midi#> .
<urn:nimble-test:played> a lv2:Plugin, lv2:InstrumentPlugin ; lv2:binary <played.so> ; doap:name "Played" ;
  lv2:port [ a lv2:AudioPort, lv2:OutputPort ; lv2:index 0 ; lv2:symbol "left" ; lv2:name "Left" ] ,
    [ a lv2:AudioPort, lv2:OutputPort ; lv2:index 1 ; lv2:symbol "right" ; lv2:name "Right" ] ,
    [ a lv2:InputPort, atom:AtomPort ; atom:bufferType atom:Sequence ; atom:supports midi:MidiEvent ; lv2:index 2 ;
      lv2:symbol "notes" ; lv2:name "Notes" ] .
"""
MANIFEST = """
@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix rdfs: <http://www.w3.org/2000/01/rdf-schema#> .
<urn:nimble-test:played> a lv2:Plugin ; lv2:binary <played.so> ; rdfs:seeAlso <played.ttl> .
"""


def installed(folder: Path, standard: str, monkeypatch: pytest.MonkeyPatch, *ways: str) -> str:
    """Builds it and has a search find it; gives it as a device of an exchange file. Skips without a C compiler."""
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        pytest.skip("no C compiler to build the test plugins with")

    def build(into: Path) -> Path:
        target = into / FILES[standard]
        target.parent.mkdir(parents=True, exist_ok=True)
        flags = [*(f"-D{each}" for each in (standard.upper(), *ways)), "-O1", "-shared", "-fPIC", f"-I{SOURCE.parent}"]
        subprocess.run([compiler, *flags, "-o", str(target), str(SOURCE)], check=True)
        if standard == "lv2":
            (target.parent / "manifest.ttl").write_text(MANIFEST)
            (target.parent / "played.ttl").write_text(TURTLE)
        return into

    made_of = "played", standard, ways
    there = built_once(made_of, build)
    apart(folder, monkeypatch)
    monkeypatch.setenv(f"{standard.upper()}_PATH", str(there))
    found_once(made_of)
    return x.plugin(*DEVICES[standard], "Played", role="instrument")


def written(path, devices, clips, more=""):
    structure = x.track("t", "Keys", x.channel("c", devices=devices), "notes") + x.main_track()
    return x.write(path, x.project(structure, x.lanes("t", clips, unit="seconds") + more))


def carried(path, folder, buffer=256):
    imported = dawproject.read(path)
    prepared = carrying.prepare(imported.session, FREEZE, buffer)
    assert prepared.refused == []
    (job,) = prepared.jobs
    *_, last = render.carry_out(job, path, folder)
    assert last.trouble == "", last.trouble
    assert last.rendered.proof.verdict == "same"
    return soundfile.read(folder / last.rendered.file, dtype="float32", always_2d=True)[0]


def steps(*rows, length=2.0):
    """What rows of second and value make at every sample."""
    found = np.zeros(int(length * RATE))
    for second, value in rows:
        found[round(second * RATE) :] = value
    return found


def same(made, wanted):
    """Whether what was rendered is that, as far as it goes, and nothing after."""
    shared = min(len(made), len(wanted))
    return np.allclose(made[:shared], wanted[:shared], atol=1e-6) and shared > RATE


def a_midi_file(path, *messages):
    """A file in which these messages play at 120 beats a minute: rows of second and message."""
    track, at = mido.MidiTrack(), 0
    for second, message in sorted(messages, key=lambda row: row[0]):
        tick = round(second * 2 * 480)
        track.append(message.copy(time=tick - at))
        at = tick
    made = mido.MidiFile(ticks_per_beat=480)
    made.tracks.append(track)
    made.save(path)
    return path
