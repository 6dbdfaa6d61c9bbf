"""What the plugins of a running host's files are called."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from nimbleload.probe import catalogue
from nimbleload.probe.catalogue import Installed, Scanned
from nimbleload.probe.choosing import held_in


def lv2(name, bundle, code):
    return Installed("lv2", f"urn:{name}", name, "", "", (), f"{bundle}/", f"{bundle}/{code}")


SCANNED = [Scanned("all", 0, (
    lv2("Hall", "/a/many.lv2", "hall.so"), lv2("Room", "/a/many.lv2", "room.so"),
    lv2("Low", "/a/one.lv2", "one.so"), lv2("High", "/a/one.lv2", "one.so"), lv2("Alone", "/a/alone.lv2", "alone.so"),
    Installed("ladspa", "1", "Old", "", "", (), "/a/old.so"),
))]  # fmt: skip


def test_a_plugin_is_named_by_the_file_of_its_code_where_that_holds_no_other():
    assert catalogue.names_by_file(SCANNED) == {
        "/a/many.lv2": "many (2 plugins in one file)", "/a/many.lv2/hall.so": "Hall", "/a/many.lv2/room.so": "Room",
        "/a/one.lv2": "one (2 plugins in one file)", "/a/one.lv2/one.so": "one (2 plugins in one file)",
        "/a/alone.lv2": "Alone", "/a/alone.lv2/alone.so": "Alone", "/a/old.so": "Old",
        **{f"/a/one.lv2{code}::urn:{name}": name for code in ("", "/one.so") for name in ("High", "Low")},
    }  # fmt: skip
    files = ["/a/many.lv2/room.so", "/a/many.lv2", "/a/one.lv2/one.so", "/a/alone.lv2", "/a/old.so"]
    held = held_in([*files, "/a/one.lv2::urn:Low"], {}, SCANNED)
    assert {path: use.label for path, use in held.items()} == {
        "/a/many.lv2/room.so": "Room", "/a/alone.lv2": "Alone", "/a/old.so": "Old", "/a/one.lv2::urn:Low": "Low",
    }  # fmt: skip


def test_installed_bundles_say_where_their_code_lies():
    found = [plugin for file in catalogue.catalogue() for plugin in file.plugins if plugin.standard == "lv2"]
    if not found:
        pytest.skip("no LV2 plugin is installed")
    assert all(Path(plugin.code).is_file() and plugin.code.startswith(plugin.path) for plugin in found)


@pytest.fixture
def scanned(monkeypatch):
    """What is asked to be looked into; each file holds nothing."""
    asked: list[list[str]] = []

    def scan(files):
        asked.append(list(files))
        return [Scanned(path, modified) for path, modified in files.items()]

    monkeypatch.setattr(catalogue, "scan", scan)
    return asked


def test_a_bundle_is_looked_into_again_when_something_in_it_was_replaced(tmp_path, scanned):
    inside = tmp_path / "a.vst3" / "Contents" / "x86_64-linux" / "a.so"
    inside.parent.mkdir(parents=True)
    inside.write_bytes(b"old")
    bundle, cache = tmp_path / "a.vst3", tmp_path / "cache.json"
    for _ in range(2):
        catalogue.catalogue([bundle], cache)
    assert [each for each in scanned if each] == [[str(bundle)]]
    when = bundle.stat().st_mtime_ns
    os.utime(inside, ns=(when + 10**9, when + 10**9))
    assert bundle.stat().st_mtime_ns == when
    catalogue.catalogue([bundle], cache)
    assert [each for each in scanned if each] == [[str(bundle)]] * 2


def test_where_nothing_can_be_kept_it_is_found_all_the_same(tmp_path, scanned, caplog):
    (tmp_path / "file").write_text("no folder")
    (tmp_path / "a.clap").write_bytes(b"")
    found = catalogue.catalogue([tmp_path / "a.clap"], tmp_path / "file" / "cache.json")
    assert [each.path for each in found] == [str(tmp_path / "a.clap")]
    assert "could not be kept" in caplog.text
