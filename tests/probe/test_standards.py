"""LADSPA, LV2 and VST3: what a plugin of our own meets, and that one processor is the same in all four standards."""

from __future__ import annotations

import json
import shutil
import struct
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe import catalogue
from nimbleload.probe.effort import Effort
from nimbleload.probe.formats import ladspa
from nimbleload.probe.formats.hosted import PluginError
from nimbleload.probe.formats.vst3_abi import Interface, Stream
from nimbleload.probe.formats.vst3_state import component_state
from nimbleload.probe.isolation import Failure, run
from nimbleload.probe.messages import BestMessage, CellMessage, FactsMessage, Request
from nimbleload.probe.timed import TimedLoop

SOURCE = Path(__file__).parents[1] / "helpers" / "standards.c"


def build(target: Path, flag: str) -> Path:
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        pytest.skip("no C compiler to build the test plugins with")
    target.parent.mkdir(parents=True, exist_ok=True)
    subprocess.run([compiler, "-O1", f"-D{flag}", "-shared", "-fPIC", "-o", str(target), str(SOURCE)], check=True)
    return target


class TestLadspa:
    @pytest.fixture
    def path(self, tmp_path):
        return str(build(tmp_path / "gain.so", "LADSPA"))

    def use(self, **values):
        return PluginUse("x", PluginRef("ladspa", "4242:gain", "Test Gain"), Setting(tuple(values.items())))

    def test_a_file_describes_itself(self, path):
        assert [(d.identifier, d.name, d.vendor) for d in ladspa.describe(path)] == [
            ("4242:gain", "Test Gain", "tests")
        ]

    @pytest.mark.parametrize(("values", "gain", "offset"), [({}, 2.0, 0.0), ({"Gain": 3.0, "Offset": 0.5}, 3.0, 0.5)])
    def test_controls_start_as_hinted_and_can_be_set(self, path, values, gain, offset):
        hosted = ladspa.load(self.use(**values), path, 48000, 256)
        source = np.linspace(-1, 1, 256, dtype=np.float32)[None, :]
        TimedLoop(hosted, source).run(256, 1)
        assert hosted.outputs[0] == pytest.approx(source[0] * gain + offset)

    def test_the_latency_is_read_from_its_port_after_running(self, path):
        hosted = ladspa.load(self.use(), path, 48000, 256)
        TimedLoop(hosted, np.zeros((1, 256), np.float32)).run(64, 3)
        hosted.settled()
        assert hosted.latency == 43
        hosted.restart(64)
        TimedLoop(hosted, np.zeros((1, 256), np.float32)).run(64, 1)
        hosted.settled()
        assert hosted.latency == 41  # counted anew: the state is fresh

    def test_refusals_say_why(self, path, tmp_path):
        with pytest.raises(PluginError, match="refused to start at 7 Hz"):
            ladspa.load(self.use(), path, 7, 256)
        with pytest.raises(PluginError, match="no port 'Colour'"):
            ladspa.load(self.use(Colour=1.0), path, 48000, 256)
        with pytest.raises(PluginError, match="holds no plugin"):
            ladspa.load(PluginUse("x", PluginRef("ladspa", "1:x")), path, 48000, 256)

    @pytest.mark.parametrize(
        ("hint", "lower", "upper", "expected"),
        [
            (0x1 | 0x2 | 0x40, 2, 8, 2.0), (0x1 | 0x2 | 0x140, 2, 8, 8.0), (0x1 | 0x2 | 0x80, 0, 8, 2.0),
            (0x1 | 0x2 | 0x100, 0, 8, 6.0), (0x1 | 0x2 | 0x10 | 0xC0, 10, 1000, 100.0),
            (0x1 | 0x2 | 0x8 | 0x140, 0, 0.5, 24000.0), (0x240, 0, 0, 1.0), (0x2C0, 0, 0, 440.0), (0x1, 3, 0, 3.0),
        ],
    )  # fmt: skip
    def test_starting_values_follow_the_standards_hints(self, hint, lower, upper, expected):
        assert ladspa.start_value(ladspa.RangeHint(hint, lower, upper), 48000) == pytest.approx(expected)


BUNDLE = """
@prefix lv2: <http://lv2plug.in/ns/lv2core#> .
@prefix atom: <http://lv2plug.in/ns/ext/atom#> .
@prefix midi: <http://lv2plug.in/ns/ext/midi#> .
@prefix doap: <http://usefulinc.com/ns/doap#> .
<urn:nimble-test:{name}> a lv2:Plugin ; lv2:binary <test.so> ; doap:name "Test {name}" ;
  lv2:requiredFeature {features} ;
  lv2:port [ a lv2:AudioPort, lv2:InputPort ; lv2:index 0 ; lv2:symbol "in" ; lv2:name "In" ] ,
    [ a lv2:AudioPort, lv2:OutputPort ; lv2:index 1 ; lv2:symbol "out" ; lv2:name "Out" ] ,
    [ a lv2:ControlPort, lv2:InputPort ; lv2:index 2 ; lv2:symbol "gain" ; lv2:name "Gain" ; lv2:default 0.5 ] ,
    [ a atom:AtomPort, lv2:InputPort ; atom:bufferType atom:Sequence ; atom:supports midi:MidiEvent ;
      lv2:index 3 ; lv2:symbol "ein" ; lv2:name "Events" ] ,
    [ a atom:AtomPort, lv2:OutputPort ; atom:bufferType atom:Sequence ; lv2:index 4 ; lv2:symbol "eout" ;
      lv2:name "Events out" ] ,
    [ a lv2:ControlPort, lv2:OutputPort ; lv2:index 5 ; lv2:symbol "latency" ; lv2:name "Latency" ;
      lv2:portProperty lv2:reportsLatency ; lv2:designation lv2:latency ] .
"""


RATED = "lv2:default 0.25 ; lv2:minimum 0.0 ; lv2:maximum 0.5 ; lv2:portProperty lv2:sampleRate"


class TestLv2:
    @pytest.fixture
    def bundles(self, tmp_path, monkeypatch):
        """Two plugins in a bundle: one that asks for what is offered, one for more. liblilv looks once a process."""
        folder = tmp_path / "lv2" / "test.lv2"
        build(folder / "test.so", "LV2")
        parts = {
            "gain": "<http://lv2plug.in/ns/ext/urid#map>", "greedy": "<urn:nobody:has-this>",
            "powers": "<http://lv2plug.in/ns/ext/buf-size#powerOf2BlockLength>",
        }  # fmt: skip
        parts["rated"] = parts["gain"]
        manifest = (
            "@prefix lv2: <http://lv2plug.in/ns/lv2core#> . @prefix rdfs: <http://www.w3.org/2000/01/rdf-schema#> .\n"
        )
        for name, features in parts.items():
            bundle = BUNDLE.format(name=name, features=features)
            if name == "rated":
                bundle = bundle.replace("lv2:default 0.5", RATED)
            (folder / f"{name}.ttl").write_text(bundle)
            manifest += f"<urn:nimble-test:{name}> a lv2:Plugin ; lv2:binary <test.so> ; rdfs:seeAlso <{name}.ttl> .\n"
        (folder / "manifest.ttl").write_text(manifest)
        monkeypatch.setenv("LV2_PATH", f"{folder.parent}:/usr/lib/lv2")
        return folder.parent

    def in_a_process(self, code: str):
        """What a piece of code prints as JSON, from a process that sees the bundles."""
        head = (
            "import json, numpy as np\n"
            "from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting\n"
            "from nimbleload.probe.formats import lv2\nfrom nimbleload.probe.formats.hosted import Note\n"
            "from nimbleload.probe.timed import TimedLoop\n"
            "use = PluginUse('x', PluginRef('lv2', 'urn:nimble-test:gain', 'Test gain'))\n"
        )
        done = subprocess.run([sys.executable, "-c", head + code], capture_output=True, text=True, check=False)
        if "liblilv" in done.stderr:
            pytest.skip("the system has no liblilv")
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)

    def test_notes_worker_and_event_buffers_are_served(self, bundles):
        found = self.in_a_process(
            "h = lv2.load(use, '', 48000, 256, 64)\n"
            "loop = TimedLoop(h, np.full((1, 1024), 0.8, np.float32))\n"
            "loop.run(64, 2, (Note(60, True), Note(64, True)))\n"
            "first = h.outputs[0, :4].tolist()\nh.settled()\nloop.run(64, 1)\n"
            "print(json.dumps([first, h.outputs[0, :4].tolist(), h.latency]))"
        )
        (first, second, latency) = found
        assert first == [2.0, 0.0, 65536.0, pytest.approx(0.4)]  # two notes, once; room for events; gain 0.5
        assert second == [2.0, 1.0, 65536.0, pytest.approx(0.4)]  # the worker has answered in between
        assert latency == 123

    def test_what_is_told_as_a_part_of_the_sample_rate_is_hertz(self, bundles):
        found = self.in_a_process(
            "use = PluginUse('x', PluginRef('lv2', 'urn:nimble-test:rated', 'Test rated'))\nfound = []\n"
            "for rate in (44100, 96000):\n"
            "    h = lv2.load(use, '', rate, 64, 64)\n"
            "    loop = TimedLoop(h, np.ones((1, 1024), np.float32))\n    loop.run(64, 1)\n"
            "    gain = next(each for each in h.parameters() if each.key == 'gain')\n"
            "    found.append([float(h.outputs[0, 3]), gain.value, gain.least, gain.most])\n"
            "print(json.dumps(found))"
        )
        assert found == [[11025.0, 11025.0, 0.0, 22050.0], [24000.0, 24000.0, 0.0, 48000.0]]

    def test_blocks_that_it_says_it_does_not_take_are_refused(self, bundles):
        found = self.in_a_process(
            "use = PluginUse('x', PluginRef('lv2', 'urn:nimble-test:powers', 'Test powers'))\nsaid = ''\n"
            "from nimbleload.probe.formats.hosted import PluginError\n"
            "h = lv2.load(use, '', 48000, 512, 512)\nh.restart(256)\n"
            "try:\n    h.restart(480)\nexcept PluginError as error:\n    said = str(error)\n"
            "lv2.load(PluginUse('y', PluginRef('lv2', 'urn:nimble-test:gain', 'Other')), '', 48000, 480, 480)\n"
            "print(json.dumps(said))"
        )
        assert found == "Test powers takes blocks of powers of two only (64, 128 …), not of 480 samples."

    def test_a_restart_is_a_fresh_instance(self, bundles):
        found = self.in_a_process(
            "h = lv2.load(use, '', 48000, 256, 64)\nloop = TimedLoop(h, np.zeros((1, 1024), np.float32))\n"
            "loop.run(64, 1, (Note(60, True),))\nh.restart(64)\nloop.run(64, 1)\n"
            "print(json.dumps(float(h.outputs[0, 0])))"
        )
        assert found == 0.0

    def test_a_required_feature_that_is_lacking_is_named(self, bundles):
        use = PluginUse("x", PluginRef("lv2", "urn:nimble-test:greedy", "Test greedy"))
        last = list(run(Request(use, 48000, (64,), "", Effort(2, 0.01))))[-1]
        assert isinstance(last, Failure)
        if "liblilv" in last.reason:
            pytest.skip("the system has no liblilv")
        assert "requires what is not offered here: urn:nobody:has-this" in last.reason

    def test_bundles_are_in_the_catalogue(self, bundles, tmp_path):
        found = catalogue.paths_by_identifier(catalogue.catalogue(cache=tmp_path / "cache.json"))
        if not any(standard == "lv2" for standard, _ in found):
            pytest.skip("the system has no liblilv")
        assert found["lv2", "urn:nimble-test:gain"].name == "Test gain"


class TestVst3State:
    def preset(self, chunks: dict[bytes, bytes]) -> bytes:
        body, listing = b"", b""
        for name, content in chunks.items():
            listing += struct.pack("<4sqq", name, 48 + len(body), len(content))
            body += content
        head = b"VST3" + struct.pack("<i", 1) + b"0" * 32 + struct.pack("<q", 48 + len(body))
        return head + body + b"List" + struct.pack("<i", len(chunks)) + listing

    def test_the_components_part_is_found_in_a_preset_file(self):
        saved = self.preset({b"Cont": b"not this", b"Comp": b"\x00\x01state", b"Info": b"x"})
        assert component_state(saved) == b"\x00\x01state"

    def test_other_bytes_are_taken_as_they_are(self):
        assert component_state(b"raw bytes") == b"raw bytes"

    @pytest.mark.parametrize("length", [4, 20, 47, 60, 70])
    def test_a_cut_off_preset_is_an_error(self, length):
        saved = self.preset({b"Comp": b"0123456789" * 3})
        with pytest.raises(PluginError, match=r"cut off|without its list"):
            component_state(saved[:length])

    def test_a_list_that_points_outside_is_an_error(self):
        saved = bytearray(self.preset({b"Comp": b"0123456789"}))
        saved[-16:-8] = struct.pack("<q", 1 << 40)
        with pytest.raises(PluginError, match="cut off"):
            component_state(bytes(saved))

    def test_a_stream_reads_seeks_and_ends(self):
        import ctypes as c

        stream = Stream(b"0123456789")
        table = Interface(stream.address)
        buffer, done = c.create_string_buffer(16), c.c_int32()
        kinds = (c.c_void_p, c.c_int32, c.c_void_p)
        table.call(3, c.addressof(buffer), 4, c.addressof(done), kinds=kinds)
        assert (buffer.raw[:4], done.value) == (b"0123", 4)
        place = c.c_int64()
        table.call(5, -2, 2, c.addressof(place), kinds=(c.c_int64, c.c_int32, c.c_void_p))
        assert place.value == 8
        table.call(3, c.addressof(buffer), 16, c.addressof(done), kinds=kinds)
        assert (buffer.raw[:2], done.value) == (b"89", 2)


ZAM = {
    "clap": ("com.zamaudio.{name}", "/usr/lib/clap/{name}.clap"),
    "ladspa": (None, "/usr/lib/ladspa/{name}-ladspa.so"),
    "lv2": ("urn:zamaudio:{name}", ""),
    "vst3": (None, "/usr/lib/vst3/{name}.vst3"),
}


SOUNDS = """
import importlib, json, sys
import numpy as np
from nimbleload.core.session.plugins import PluginRef, PluginUse
from nimbleload.probe.timed import TimedLoop
standard, *processors = json.loads(sys.argv[1])
module = importlib.import_module(f"nimbleload.probe.formats.{standard}")
wave = 0.2 * np.sin(2 * np.pi * 440 * np.arange(24576) / 48000)
found = []
for identifier, path in processors:
    use = PluginUse("x", PluginRef(standard, identifier or next(module.describe(path)).identifier))
    plugin = module.load(use, path, 48000, 512)
    TimedLoop(plugin, wave.astype(np.float32)[None, :]).run(512, 40)
    plugin.settled()
    found.append([plugin.outputs[0, :512].tolist(), plugin.latency, plugin.inputs.shape, plugin.outputs.shape])
print("\\n" + json.dumps(found))
"""


def test_processors_sound_and_report_the_same_in_every_standard():
    """The same input through the same processors of Debian's zam-plugins, behind four interfaces."""
    names = ["ZamEQ2", "ZamTube", "ZaMaximX2"]
    if not Path(f"/usr/lib/clap/{names[0]}.clap").exists():
        pytest.skip("Debian's zam-plugins are not installed")
    found = {}
    for standard, (identifier, path) in ZAM.items():
        words = [standard, *([(identifier or "").format(name=name), path.format(name=name)] for name in names)]
        run = [sys.executable, "-c", SOUNDS, json.dumps(words)]
        done = subprocess.run(run, capture_output=True, text=True, check=False)
        if "liblilv" in done.stderr:
            continue
        assert done.returncode == 0, (standard, done.stderr)
        found[standard] = json.loads(done.stdout.splitlines()[-1])
    for place, name in enumerate(names):
        wave, latency, *shapes = found["clap"][place]
        assert np.abs(wave).max() > 0.01
        for standard, all_of_it in found.items():
            other = all_of_it[place]
            assert other[0] == pytest.approx(wave, abs=1e-5), (standard, name)
            assert other[2:] == shapes and (other[1] == latency or standard == "ladspa"), (standard, name)


@pytest.mark.parametrize("standard", ["ladspa", "vst3"])
def test_a_worker_measures_other_standards_too(standard):
    path = ZAM[standard][1].format(name="ZamEQ2")
    if not Path(path).exists():
        pytest.skip("Debian's zam-plugins are not installed")
    found = {p.path: p for s in catalogue.scan({path: 0}) for p in s.plugins}
    plugin = found[path]
    use = PluginUse("x", PluginRef(standard, plugin.identifier, plugin.name))
    told = list(run(Request(use, 48000, (64, 256), path, Effort(2, 0.01))))
    assert isinstance(told[0], FactsMessage)
    assert [type(each) for each in told] == [FactsMessage, *[CellMessage] * 6, BestMessage]
    stood = {p.name: p.value for p in told[0].positions}
    # What LADSPA's hints give, and where the plugin itself starts, in its own unit.
    starts = {"ladspa": 102.8737, "vst3": 250.0}
    assert stood["Frequency L"] == pytest.approx(starts[standard], rel=1e-3)
    assert stood["Boost/Cut 1"] == pytest.approx(0.0, abs=1e-4)
