"""Builds known.c, a plugin of known cost, as LADSPA, LV2, CLAP and VST3."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from typing import NamedTuple

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from tests.helpers.searching import apart, built_once, found_once

SOURCE = Path(__file__).with_name("known.c")
KEYED, COLD, COLD_AFTER = 200e-6, 100e-6, 600e-6
CALL, SAMPLE, BURST, PERIOD, WAKE, TAIL, TAIL_SECONDS = 20e-6, 20e-9, 100e-6, 16, 200e-6, 30e-6, 1.0
NOTE, HELPED, STRUCK, STRUCK_SAMPLES, PEAK = 50e-6, 100e-6, 200e-6, 9600, 200e-6
FULL, FULL_SECONDS = 200e-6, 2.0
IDENTIFIERS = {
    "ladspa": "77:known", "lv2": "urn:nimble-test:known", "clap": "test.known",
    "vst3": b"nimbletestknown\0".hex().upper(),
}  # fmt: skip
TURTLE = """
@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix doap: <http://usefulinc.com/ns/doap#> .
@prefix pset: <http://lv2plug.in/ns/ext/presets#> . @prefix rdfs: <http://www.w3.org/2000/01/rdf-schema#> .
<urn:nimble-test:known> a lv2:Plugin, lv2:CompressorPlugin ; lv2:binary <known.so> ; doap:name "Known" ;
  lv2:port [ a lv2:AudioPort, lv2:InputPort ; lv2:index 0 ; lv2:symbol "in" ; lv2:name "In" ] ,
    [ a lv2:AudioPort, lv2:OutputPort ; lv2:index 1 ; lv2:symbol "out" ; lv2:name "Out" ] ,
    [ a lv2:ControlPort, lv2:InputPort ; lv2:index 2 ; lv2:symbol "extra" ; lv2:name "Extra" ; lv2:default 0 ;
      lv2:minimum 0 ; lv2:maximum 100 ] ,
    [ a lv2:ControlPort, lv2:InputPort ; lv2:index 3 ; lv2:symbol "quality" ; lv2:name "Quality" ; lv2:default 0 ;
      lv2:minimum 0 ; lv2:maximum 1 ; lv2:portProperty lv2:toggled ] ,
    [ a lv2:ControlPort, lv2:OutputPort ; lv2:index 4 ; lv2:symbol "latency" ; lv2:name "Latency" ;
      lv2:portProperty lv2:reportsLatency ; lv2:designation lv2:latency ] .
<urn:nimble-test:known-preset> a pset:Preset ; lv2:appliesTo <urn:nimble-test:known> ; rdfs:label "Dear" ;
  lv2:port [ lv2:symbol "extra" ; pset:value 50.0 ] .
"""

KEYED_TURTLE = TURTLE.replace("lv2:designation lv2:latency ] .", """lv2:designation lv2:latency ] ,
    [ a lv2:AudioPort, lv2:InputPort ; lv2:index 5 ; lv2:symbol "side" ; lv2:name "Side" ;
      lv2:portProperty lv2:isSideChain ] .""")


class Known(NamedTuple):
    """One build of it: the file to load, and the variable that makes a search find it."""

    standard: str
    path: Path
    search: tuple[str, str]

    def use(self, state: bytes | None = None, voices: int = 0, **values: float) -> PluginUse:
        plugin = PluginRef(self.standard, IDENTIFIERS[self.standard], "Known")
        return PluginUse("known", plugin, Setting(tuple(values.items()), state), channels=1, voices=voices)


def build(folder: Path, standard: str, *ways: str) -> Known | None:
    """Builds it in a folder, with some of the ways that known.c knows; None without a C compiler."""
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        return None
    folder = folder / standard
    names = {"ladspa": "known.so", "lv2": "known.lv2/known.so", "clap": "known.clap", "vst3": "known.vst3"}
    target = folder / names[standard]
    target.parent.mkdir(parents=True, exist_ok=True)
    # The headers lie beside this file, also for a source that a test has changed.
    ways = (standard.upper(), *ways)
    flags = ["-O1", *(f"-D{name}" for name in ways), "-shared", "-pthread", "-fPIC", "-I", str(Path(__file__).parent)]
    subprocess.run([compiler, *flags, "-o", str(target), str(SOURCE)], check=True)
    if standard == "lv2":
        (target.parent / "manifest.ttl").write_text(
            "@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix pset: <http://lv2plug.in/ns/ext/presets#> .\n"
            "@prefix rdfs: <http://www.w3.org/2000/01/rdf-schema#> .\n"
            "<urn:nimble-test:known> a lv2:Plugin ; lv2:binary <known.so> ; rdfs:seeAlso <known.ttl> .\n"
            "<urn:nimble-test:known-preset> a pset:Preset ; lv2:appliesTo <urn:nimble-test:known> ; "
            "rdfs:seeAlso <known.ttl> .\n"
        )
        (target.parent / "known.ttl").write_text(KEYED_TURTLE if "KEYED" in ways else TURTLE)
    return Known(standard, target, (f"{standard.upper()}_PATH", str(folder)))


def installed(folder: Path, standard: str, monkeypatch: pytest.MonkeyPatch, *ways: str) -> Known:
    """Has a search find it, built and looked into once for all tests; skips without a C compiler."""
    made_of = "known", SOURCE, standard, ways
    built = built_once(made_of, lambda into: build(into, standard, *ways))
    if built is None:
        pytest.skip("no C compiler to build the test plugins with")
    apart(folder, monkeypatch)
    monkeypatch.setenv(*built.search)
    found_once(made_of)
    return built
