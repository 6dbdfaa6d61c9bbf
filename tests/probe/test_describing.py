"""What plugins tell of their parameters, asked in workers."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe import catalogue, describing
from nimbleload.probe.choosing import Lookup, choices
from nimbleload.probe.formats import vst3
from nimbleload.probe.isolation import Failure
from tests.helpers.rogue import rogue_use, zam_library
from tests.helpers.searching import apart

LV2_FOLDER = Path("/usr/lib/lv2")


@pytest.fixture(autouse=True)
def _own_catalogue(tmp_path, monkeypatch):
    apart(tmp_path, monkeypatch)


def test_a_house_processor_tells_its_settings_with_the_values_of_the_session():
    use = PluginUse("u", PluginRef("house", "house.tar", "Tar"), Setting((("drive", 7.0),)))
    found = {each.key: each for each in describing.parameters(use, 48000)}
    assert found["drive"].value == 7 and found["drive"].least < 7 < found["drive"].most
    assert found["oversampling"].kind != "number"


def test_a_real_plugin_tells_names_and_ranges(monkeypatch):
    monkeypatch.setenv("CLAP_PATH", str(zam_library("ZamEQ2").parent))
    found = describing.parameters(PluginUse("u", PluginRef("clap", "com.zamaudio.ZamEQ2", "ZamEQ2")), 48000)
    assert not isinstance(found, Failure) and len(found) > 8
    assert len({each.key for each in found}) == len(found)
    assert all(each.least <= each.value <= each.most and each.name for each in found)


def test_a_plugin_that_refuses_is_a_reason_and_one_without_parameters_is_none(rogue):
    assert describing.parameters(rogue_use("refuse"), 48000) == Failure("refuse refused to start.")
    assert describing.parameters(rogue_use("good"), 48000) == ()


def test_what_is_not_installed_is_a_reason():
    gone = describing.parameters(PluginUse("u", PluginRef("clap", "org.nowhere", "Gone")), 48000)
    assert isinstance(gone, Failure) and "not installed here" in gone.reason


@pytest.mark.parametrize(
    ("standard", "written"), [("lv2", "80 ms"), ("vst3", "80.000000 ms"), ("clap", "80.000000"), ("ladspa", "")]
)
def test_values_are_told_as_each_standard_has_them_written(zam, standard, written):
    use = Lookup(choices(catalogue.catalogue()))("ZamComp", standard)
    found = {each.name: each for each in describing.parameters(use, 48000)}
    assert found["Release"].text == written


@pytest.mark.usefixtures("zam")
def test_choices_have_the_names_that_the_plugin_gives_them():
    use = Lookup(choices(catalogue.catalogue()))("ZamVerb", "vst3")
    (room,) = [each for each in describing.parameters(use, 48000) if each.name == "Room"]
    assert room.kind == "choice" and room.texts == ("0", "1", "2", "3", "4", "5", "6") and len(room.choices) == 7


def lv2(name, **setting):
    return PluginUse("u", PluginRef("lv2", f"urn:zamaudio:{name}", name), Setting(**setting))


@pytest.fixture
def zam():
    if not (LV2_FOLDER / "ZaMultiComp.lv2").is_dir():
        pytest.skip("zam-plugins is not installed")


@pytest.mark.usefixtures("zam")
def test_presets_of_a_real_plugin_are_found_and_each_sets_what_it_says():
    told = describing.told(lv2("ZaMultiComp"), 48000)
    presets = {each.name: each for each in told.presets}
    assert set(presets) >= {"Presence", "Zero"}
    values = {}
    for name, preset in presets.items():
        found = describing.told(lv2("ZaMultiComp", state=describing.state_of(preset)), 48000)
        values[name] = {each.key: each.value for each in found.parameters}
    # As the preset's own file has it.
    assert values["Presence"]["rel1"] == 200.0 and values["Zero"]["rel1"] == 80.0


@pytest.mark.usefixtures("zam")
def test_a_state_that_a_plugin_does_not_take_is_told():
    nobodys = describing.told(lv2("ZamTube", state=b"urn:x"), 48000)
    assert "neither an LV2 state nor an installed preset" in nobodys.reason
    other = describing.told(lv2("ZamTube", state=b"urn:zamaudio:ZaMultiComp#preset001"), 48000)
    assert "belongs to another plugin" in other.reason


def test_preset_files_of_vst3_lie_by_maker_and_plugin(tmp_path, monkeypatch):
    monkeypatch.setattr(vst3, "preset_folders", lambda: [tmp_path, tmp_path / "nowhere"])
    folder = tmp_path / "Some Maker" / "Tape"
    (folder / "Bass").mkdir(parents=True)
    for path in (folder / "Warm.vstpreset", folder / "Bass" / "Fat.vstpreset", folder / "notes.txt"):
        path.write_bytes(b"x")
    of = SimpleNamespace(_vendor="Some Maker", _label="Tape")
    found = vst3.Vst3Hosted.presets(of)
    assert [(each.name, each.source) for each in found] == [
        ("Fat", str(folder / "Bass" / "Fat.vstpreset")), ("Warm", str(folder / "Warm.vstpreset"))]  # fmt: skip
    assert describing.state_of(found[0]) == b"x"
    assert vst3.Vst3Hosted.presets(SimpleNamespace(_vendor="Nobody", _label="Tape")) == ()


def test_a_file_larger_than_any_state_is_not_read(tmp_path, monkeypatch):
    monkeypatch.setattr(describing, "LARGEST_STATE", 1 << 20)
    with (tmp_path / "big").open("wb") as file:
        file.truncate((1 << 20) + 1)
    with pytest.raises(OSError, match="larger than 1 MB"):
        describing.read_state(tmp_path / "big")
    with pytest.raises(FileNotFoundError):
        describing.read_state(tmp_path / "none")
