"""What plugins meet of their host, told by a plugin in C that needs it and puts out what it met (helpers/meets.c)."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from nimbleload.core.decisions.decision import Decision, Plan
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.core.session.tempo import TempoMap
from nimbleload.deliver import render
from nimbleload.probe.formats import clap, vst3
from nimbleload.probe.formats.hosted import Note
from nimbleload.probe.timed import TimedLoop
from nimbleload.store import dawproject
from tests.helpers import exchange as x
from tests.helpers.often import each_of
from tests.helpers.searching import apart
from tests.helpers.stems import audio, noise, wave

HELPERS = Path(__file__).parents[1] / "helpers"
VST3_ID = b"nimbletestmeets\0".hex().upper()


def built(target: Path, standard: str) -> str:
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        pytest.skip("no C compiler to build the test plugins with")
    target.parent.mkdir(parents=True, exist_ok=True)
    flags = ["-O1", f"-D{standard}", "-shared", "-fPIC", "-I", str(HELPERS)]
    subprocess.run([compiler, *flags, "-o", str(target), str(HELPERS / "meets.c")], check=True)
    return str(target)


def met(hosted, frames: int, blocks: int, count: int) -> np.ndarray:
    """What the plugin put out in the last of some blocks."""
    TimedLoop(hosted, np.zeros((len(hosted.inputs), 4096), np.float32)).run(frames, blocks)
    return hosted.outputs[0, :count]


class TestClap:
    @pytest.fixture
    def hosted(self, tmp_path):
        path = built(tmp_path / "meets.clap", "CLAP")
        found = clap.load(PluginUse("x", PluginRef("clap", "test.meets", "Meets")), path, 48000, 1024, 64)
        yield found
        found.close()

    def test_a_block_runs_on_the_audio_thread_and_all_else_on_the_main_thread(self, hosted):
        facts = met(hosted, 64, 1, 12)
        assert facts[0] == 1.0
        assert facts[8] == 1.0

    def test_tasks_of_its_pool_are_done_in_the_block(self, hosted):
        assert met(hosted, 64, 1, 2)[1] == 1 + 2 + 3 + 4

    def test_the_piece_plays_and_goes_on_with_every_block(self, hosted):
        tempo, beat, second, flags = met(hosted, 64, 1, 6)[2:]
        assert (tempo, beat, second, flags) == (120.0, 0.0, 0.0, 31.0)
        hosted.restart(64)
        facts = met(hosted, 64, 751, 8)
        assert facts[4] == pytest.approx(750 * 64 / 48000)
        assert facts[3] == pytest.approx(2 * 750 * 64 / 48000)
        assert (facts[6], facts[7]) == (0.0, 0.0)
        hosted.restart(1024)
        facts = met(hosted, 1024, 201, 8)
        beat = 2 * 200 * 1024 / 48000
        assert facts[3] == pytest.approx(beat)
        assert (facts[6], facts[7]) == (beat // 4, beat // 4 * 4)

    def test_the_main_thread_timers_files_and_another_latency_are_served_between_runs(self, hosted):
        assert hosted.latency == 77
        met(hosted, 64, 2, 12)
        assert hosted.defers
        assert hosted.settled()
        assert hosted.latency == 99
        assert met(hosted, 64, 1, 12)[9:].tolist() == [1.0, 1.0, 1.0]
        assert not hosted.settled()


class TestVst3:
    def hosted(self, tmp_path, channels=2):
        path = built(tmp_path / "meets.vst3", "VST3")
        use = PluginUse("x", PluginRef("vst3", VST3_ID, "Meets"), channels=channels)
        return vst3.load(use, path, 48000, 1024, 64)

    def test_it_knows_its_host_and_its_two_parts_know_each_other(self, tmp_path):
        """It starts at all only if the host gives it messages with attributes."""
        assert met(self.hosted(tmp_path), 64, 1, 3).tolist() == [1.0, 1.0, 1.0]

    def test_nothing_is_made_for_it_in_a_block(self, tmp_path):
        assert met(self.hosted(tmp_path), 64, 1, 4)[3] == 1.0

    def test_the_piece_plays_and_goes_on_with_every_block(self, tmp_path):
        hosted = self.hosted(tmp_path)
        facts = met(hosted, 64, 1, 11)
        assert facts[4:].tolist() == [120.0, 0.0, 0.0, 1.0, 48000.0, 0.0, 4.0]
        hosted.restart(1024)
        facts = met(hosted, 1024, 201, 11)
        beat = 2 * 200 * 1024 / 48000
        assert facts[6] == 200 * 1024
        assert facts[5] == pytest.approx(beat)
        assert facts[9] == beat // 4 * 4

    @pytest.mark.parametrize(("channels", "wide"), [(1, 1), (2, 2), (6, 2)])
    def test_its_main_buses_are_as_wide_as_the_strip_where_it_can(self, tmp_path, channels, wide):
        hosted = self.hosted(tmp_path, channels)
        assert hosted.inputs.shape[0] == hosted.outputs.shape[0] == wide
        assert met(hosted, 64, 1, 13)[11:].tolist() == [wide, wide]

    def test_another_latency_is_read_when_it_says_so(self, tmp_path):
        hosted = self.hosted(tmp_path)
        assert hosted.latency == 77
        hosted.settled()
        assert hosted.latency == 99


TURTLE = """
@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix doap: <http://usefulinc.com/ns/doap#> .
@prefix atom: <http://lv2plug.in/ns/ext/atom#> . @prefix time: <http://lv2plug.in/ns/ext/time#> .
@prefix midi: <http://lv2plug.in/ns/ext/midi#> . @prefix state: <http://lv2plug.in/ns/ext/state#> .
@prefix xsd: <http://www.w3.org/2001/XMLSchema#> .
<urn:nimble-test:meets> a lv2:Plugin ; lv2:binary <meets.so> ; doap:name "Meets" ;
  lv2:requiredFeature state:loadDefaultState, <http://lv2plug.in/ns/ext/log#log>, <http://lv2plug.in/ns/ext/urid#map> ;
  lv2:extensionData state:interface ; state:state [ <urn:nimble-test:gain> "3.5"^^xsd:float ] ;
  lv2:port [ a lv2:AudioPort, lv2:InputPort ; lv2:index 0 ; lv2:symbol "in" ; lv2:name "In" ] ,
    [ a lv2:AudioPort, lv2:OutputPort ; lv2:index 1 ; lv2:symbol "out" ; lv2:name "Out" ] ,
    [ a atom:AtomPort, lv2:InputPort ; atom:bufferType atom:Sequence ; atom:supports midi:MidiEvent, time:Position ;
      lv2:index 2 ; lv2:symbol "events" ; lv2:name "Events" ] .
"""
PLACES = """
from nimbleload.core.session.meter import Bars
from nimbleload.probe.formats.piece import Place
FOURS = Bars(0.0, 0, 4, 4)
"""
HEAD = """
import json, numpy as np
from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe.formats import lv2
from nimbleload.probe.formats.hosted import Note
from nimbleload.probe.timed import TimedLoop
hosted = lv2.load(PluginUse("x", PluginRef("lv2", "urn:nimble-test:meets", "Meets")), "", 48000, 256, 64)
loop = TimedLoop(hosted, np.zeros((1, 4096), np.float32))
"""


def bundle(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = tmp_path / "lv2" / "meets.lv2"
    built(folder / "meets.so", "LV2")
    (folder / "meets.ttl").write_text(TURTLE)
    (folder / "manifest.ttl").write_text(
        "@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix rdfs: <http://www.w3.org/2000/01/rdf-schema#> .\n"
        "<urn:nimble-test:meets> a lv2:Plugin ; lv2:binary <meets.so> ; rdfs:seeAlso <meets.ttl> .\n"
    )
    monkeypatch.setenv("LV2_PATH", f"{folder.parent}:/usr/lib/lv2")


# In a process as workers come from: what is compiled, and not kept in a file, to load plugins and to run them. Its
# arguments are the standard, identifier and file of each.
COMPILED = PLACES + """
import sys
import numpy as np
from nimbleload.probe import nursery

nursery.make_ready()

from numba.core import compiler
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.probe.loading import load
from nimbleload.probe.messages import Request
from nimbleload.probe.timed import TimedLoop

from nimbleload.house.catalogue import PROCESSORS

compile_extra = compiler.compile_extra

def compiled(typing, target, function, *rest, **more):
    print(function.__module__, function.__qualname__)
    return compile_extra(typing, target, function, *rest, **more)

compiler.compile_extra = compiled
for standard, identifier, path in zip(*[iter(sys.argv[1:])] * 3):
    hosted = load(Request(PluginUse("x", PluginRef(standard, identifier)), 48000, (64,), path))
    loop = TimedLoop(hosted, np.zeros((len(hosted.inputs), 4096), np.float32))
    loop.refresh(64)
    hosted.locate(Place(4800, 1.0, 90.0, FOURS))
    loop.run(64, 8)
    loop.silent_peaks(64, 8)
    hosted.close()
    print("ran")
for name in PROCESSORS:
    load(Request(PluginUse("x", PluginRef("house", name)), 48000, (64,), ""))
print(*(name for name in sys.modules if name in ("scipy.signal", "scipy.optimize", "scipy.sparse")))
"""


def test_nothing_is_compiled_in_a_worker_to_run_a_plugin_and_nothing_large_imported(tmp_path, monkeypatch):
    """Each would do so again, for half a second or longer."""
    bundle(tmp_path, monkeypatch)
    clap_file, vst3_file = built(tmp_path / "meets.clap", "CLAP"), built(tmp_path / "meets.vst3", "VST3")
    of = ["clap", "test.meets", clap_file, "vst3", VST3_ID, vst3_file, "lv2", "urn:nimble-test:meets", ""]

    def run():
        command = [sys.executable, "-c", COMPILED, *of]
        return subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()

    run()  # and keeps what was changed since it was compiled
    assert run() == ["ran"] * 3


class TestLv2:
    def told(self, tmp_path, monkeypatch, code: str):
        """What a piece of code prints as JSON, in a process of its own: liblilv looks for bundles once."""
        bundle(tmp_path, monkeypatch)
        done = subprocess.run([sys.executable, "-c", HEAD + code], capture_output=True, text=True, check=False)
        if "liblilv" in done.stderr:
            pytest.skip("the system has no liblilv")
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)

    def test_it_begins_in_the_state_of_its_bundle_at_the_beginning_of_a_piece_that_plays(self, tmp_path, monkeypatch):
        first, second, again = self.told(
            tmp_path, monkeypatch,
            "told = []\nfor anew in (False, False, True):\n    if anew: hosted.restart(64)\n    loop.run(64, 1)\n"
            "    told.append(hosted.outputs[0, :7].tolist())\nprint(json.dumps(told))",
        )  # fmt: skip
        assert first == [3.5, 1.0, 120.0, 0.0, 1.0, 1.0, 1.0]
        # It counts for itself from then on.
        assert second[:2] == [3.5, 0.0]
        assert again == first

    def test_another_tempo_is_told_and_what_goes_on_as_expected_is_not(self, tmp_path, monkeypatch):
        expected, other, then = self.told(
            tmp_path, monkeypatch,
            f"{PLACES}told = []\nloop.run(64, 1)\nfor sample, beat, bpm in ((64, 128 / 48000, 120.0), "
            "(96000, 5.0, 90.0), (96064, 5.0 + 96 / 48000, 90.0)):\n"
            "    hosted.locate(Place(sample, beat, bpm, FOURS))\n    loop.run(64, 1)\n"
            "    told.append(hosted.outputs[0, 1:5].tolist())\nprint(json.dumps(told))",
        )  # fmt: skip
        assert expected[0] == 0.0
        assert other == [1.0, 90.0, 96000.0, 1.0]
        assert then[0] == 0.0

    def test_bars_are_told_by_the_beats_that_the_time_signature_counts(self, tmp_path, monkeypatch):
        fours, sixes, then = self.told(
            tmp_path, monkeypatch,
            f"{PLACES}told = []\nfor place in (Place(0, 0.0, 120.0, FOURS), "
            "Place(96000, 9.5, 120.0, Bars(8.0, 2, 6, 8)), "
            "Place(96064, 9.5 + 128 / 48000, 120.0, Bars(8.0, 2, 6, 8))):\n    hosted.locate(place)\n"
            "    loop.run(64, 1)\n    told.append(hosted.outputs[0, [1, 2, 7, 8, 9, 10]].tolist())\n"
            "print(json.dumps(told))",
        )  # fmt: skip
        # Positions, beats a minute, bar, beat of the bar, unit, beats a bar.
        assert fours == [1.0, 120.0, 0.0, 0.0, 4.0, 4.0]
        # A quarter and an eighth after the beginning of the third bar: three eighths, of which 240 go in a minute.
        assert sixes == [1.0, 240.0, 2.0, 3.0, 8.0, 6.0]
        assert then[0] == 0.0

    def test_notes_of_the_first_block_come_behind_where_the_piece_is(self, tmp_path, monkeypatch):
        facts = self.told(
            tmp_path, monkeypatch,
            f"loop.run(64, 1, ({Note(60, True)!r}, {Note(64, True)!r}))\n"
            "print(json.dumps(hosted.outputs[0, :6].tolist()))",
        )  # fmt: skip
        assert facts[1] == 1.0
        assert facts[5] == 3.0


class TestRendering:
    """A track is rendered as it is played: at the tempo that its session has where it is."""

    def facts(self, tmp_path, monkeypatch, standard, tempo, meters=(), facts=None):
        """Blocks of 512 samples: tempo, beat and where it is (seconds, or samples) in each, by the plugin itself."""
        name, tag, own = {"CLAP": ("meets.clap", "ClapPlugin", "test.meets"),
                          "VST3": ("meets.vst3", "Vst3Plugin", VST3_ID)}[standard]  # fmt: skip
        built(tmp_path / standard / name, standard)
        monkeypatch.setenv(f"{standard}_PATH", str(tmp_path / standard))
        apart(tmp_path, monkeypatch)
        points = "".join(
            f'<RealPoint time="{beat}" value="{bpm}" interpolation="{"linear" if ramp else "hold"}"/>'
            for beat, bpm, ramp in tempo
        )
        structure = x.track("t", "Voice", x.channel("c", devices=x.plugin(tag, own, "Meets"))) + x.main_track()
        moving = f'<TempoAutomation unit="bpm" timeUnit="beats"><Points>{points}</Points></TempoAutomation>'
        lanes = x.lanes("t", x.clip(0, 6, audio(seconds=6.0)), unit="seconds")
        signs = "".join(f'<TimeSignaturePoint time="{b}" numerator="{n}" denominator="{d}"/>' for b, n, d in meters)
        moving += f'<TimeSignatureAutomation timeUnit="beats">{signs}</TimeSignatureAutomation>' if meters else ""
        xml = x.project(structure, lanes).replace("</Arrangement>", f"{moving}</Arrangement>")
        path = x.write(tmp_path / "a.dawproject", xml, {"audio/a.wav": wave(noise(6.0))})
        imported = dawproject.read(path)
        (job,) = render.jobs(imported.session, Plan((Decision("freeze", "t"),)), imported.audio, 512)
        *_, last = render.carry_out(job, path, tmp_path / "out")
        assert last.trouble == "", last.trouble
        made = soundfile.read(tmp_path / "out" / last.rendered.file, dtype="float32")[0][:, 0]
        whole = np.concatenate((np.zeros(last.rendered.latency, np.float32), made))  # it was moved back by so much
        blocks = whole[: len(whole) // 512 * 512].reshape(-1, 512)[1 : 6 * 48000 // 512]
        places = [2, 3, 4] if standard == "CLAP" else [4, 5, 6]
        return imported.session, blocks[:, facts or places].T

    @pytest.mark.parametrize(("standard", "tempo"), each_of(["CLAP", "VST3"], [
        [(0, 90, False)],
        [(0, 90, False), (3, 150, False), (5, 60, False)],
        [(0, 60, True), (6, 180, True), (8, 90, False)],
    ]))  # fmt: skip
    def test_a_plugin_hears_the_tempo_of_the_session_where_it_is(self, tmp_path, monkeypatch, standard, tempo):
        session, (bpm, beat, place) = self.facts(tmp_path, monkeypatch, standard, tempo)
        of = TempoMap(session.tempo)
        seconds = np.arange(1, 1 + len(bpm)) * 512 / 48000
        assert place == pytest.approx(seconds if standard == "CLAP" else seconds * 48000, rel=1e-5)
        assert bpm == pytest.approx([of.pace(second) for second in seconds], rel=1e-5)
        assert beat == pytest.approx([of.beat(second) for second in seconds], rel=1e-5)

    @pytest.mark.parametrize("standard", ["CLAP", "VST3"])
    def test_a_plugin_hears_the_bars_of_the_session_where_it_is(self, tmp_path, monkeypatch, standard):
        """Fours, from beat 6 on in the middle of a bar sixes of eighths, and threes from beat 13.5 on."""
        meters = [(0, 4, 4), (6, 6, 8), (13.5, 3, 4)]
        facts = [3, 6, 7] if standard == "CLAP" else [5, 9, 10]
        _, made = self.facts(tmp_path, monkeypatch, standard, [(0, 240, False)], meters, facts)
        lines = [0, 4, 6, 9, 12, *(13.5 + 3 * k for k in range(10))]
        for beat, *told in made.T.tolist():
            bar = max(k for k, line in enumerate(lines) if line <= beat + 1e-4)
            beats = 4 if bar < 2 else 6 if bar < 5 else 3
            expected = [bar, lines[bar]] if standard == "CLAP" else [lines[bar], beats]
            # A block that began before the time signature changed has the old one; then the next has the new one.
            assert told == pytest.approx(expected, abs=1e-4) or beat - lines[bar] < 4 * 512 / 48000
        assert set(made[1].tolist()) >= ({0, 1, 2, 3, 4, 5} if standard == "CLAP" else {4, 6, 9, 12, 13.5})
