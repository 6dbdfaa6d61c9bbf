"""What plugins tell of their parameters, asked in workers."""

from __future__ import annotations

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from nimbleload.probe import catalogue, describing
from nimbleload.probe.isolation import Failure
from tests.helpers.rogue import rogue_use, zam_library


@pytest.fixture(autouse=True)
def _own_catalogue(tmp_path, monkeypatch):
    monkeypatch.setattr(catalogue, "cache_file", lambda: tmp_path / "plugins.json")


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
