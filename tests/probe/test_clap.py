"""CLAP hosting: port layouts, notes, state, parameters; with our own test plugin and with Debian's zam-plugins."""

from __future__ import annotations

import numpy as np
import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe.formats import clap
from nimbleload.probe.formats.hosted import Note, PluginError
from nimbleload.probe.timed import TimedLoop
from tests.helpers.rogue import rogue_use, zam_library


def test_ports_are_as_wide_as_the_plugin_says(rogue):
    hosted = clap.load(rogue_use("good"), str(rogue), 48000, 256)
    assert hosted.inputs.shape == (3, 256)
    assert hosted.outputs.shape == (2, 256)
    assert hosted.latency == 77


def test_what_goes_in_comes_out_and_a_state_is_loaded(rogue):
    for state, gain in ((None, 1.0), (bytes([4]), 5.0)):
        hosted = clap.load(rogue_use("good", setting=Setting((), state)), str(rogue), 48000, 256)
        source = np.linspace(-1, 1, 256, dtype=np.float32)[None, :].repeat(3, axis=0)
        TimedLoop(hosted, source).run(256, 1)
        assert hosted.outputs[0] == pytest.approx(source[0] * gain)
        hosted.close()


def test_a_state_that_the_plugin_does_not_take_is_an_error(rogue):
    with pytest.raises(PluginError, match="did not accept the state"):
        clap.load(rogue_use("good", setting=Setting((), bytes([255]))), str(rogue), 48000, 256)


def test_notes_arrive_once_with_the_first_block(rogue):
    hosted = clap.load(rogue_use("notes"), str(rogue), 48000, 256)
    loop = TimedLoop(hosted, np.zeros((1, 1024), np.float32))
    loop.run(256, 3, (Note(60, True), Note(64, True)))
    assert hosted.outputs[0, 0] == 2.0


def test_a_parameter_id_that_is_no_number_is_an_error(rogue):
    with pytest.raises(PluginError, match="takes none"):
        clap.load(rogue_use("good", setting=Setting((("1", 0.5),))), str(rogue), 48000, 256)


def test_a_library_describes_its_plugins(rogue):
    found = {d.identifier: d for d in clap.Library(str(rogue)).described()}
    assert len(found) == 7
    assert found["test.good"].vendor == "tests"
    assert found["test.good"].version == "3.1"


def zam_use(name: str, **values: float) -> PluginUse:
    return PluginUse("x", PluginRef("clap", f"com.zamaudio.{name}"), Setting(tuple(values.items())))


def test_a_real_equaliser_passes_sound():
    hosted = clap.load(zam_use("ZamEQ2"), str(zam_library("ZamEQ2")), 48000, 512)
    assert hosted.inputs.shape[0] == 1
    wave = 0.1 * np.sin(2 * np.pi * 1000 * np.arange(4096) / 48000).astype(np.float32)[None, :]
    TimedLoop(hosted, wave).run(512, 8)
    assert np.abs(hosted.outputs).max() == pytest.approx(0.1, rel=0.05)


def test_a_real_compressor_has_a_side_chain_input():
    hosted = clap.load(zam_use("ZamCompX2"), str(zam_library("ZamCompX2")), 48000, 512)
    assert hosted.inputs.shape[0] == 3
    assert hosted.outputs.shape[0] == 2


def test_a_real_parameter_changes_what_comes_out():
    levels = []
    for makeup in (0.0, 12.0):
        path = str(zam_library("ZamComp"))
        number = parameter_id(path, "com.zamaudio.ZamComp", "Makeup")
        hosted = clap.load(zam_use("ZamComp", **{str(number): makeup}), path, 48000, 512)
        TimedLoop(hosted, np.full((2, 8192), 0.01, np.float32)).run(512, 40)
        levels.append(float(np.abs(hosted.outputs).max()))
    assert 20 * np.log10(levels[1] / levels[0]) == pytest.approx(12.0, abs=0.5)


def parameter_id(path: str, identifier: str, name: str) -> int:
    """The id of a parameter by its name, asked of the plugin itself."""
    import ctypes as c

    class Info(c.Structure):
        _fields_ = (
            ("id", c.c_uint32), ("flags", c.c_uint32), ("cookie", c.c_void_p), ("name", c.c_char * 256),
            ("module", c.c_char * 1024), ("least", c.c_double), ("most", c.c_double), ("start", c.c_double),
        )  # fmt: skip

    hosted = clap.load(PluginUse("x", PluginRef("clap", identifier)), path, 48000, 512)
    params = hosted._extension(b"clap.params", clap.Params)
    for index in range(params.count(hosted._address)):
        found = Info()
        params.get_info(hosted._address, index, c.addressof(found))
        if name.lower() in found.name.decode().lower():
            return int(found.id)
    raise LookupError(name)
