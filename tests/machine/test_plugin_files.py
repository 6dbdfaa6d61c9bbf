"""Which mapped files are plugins."""

from __future__ import annotations

import pytest

from nimbleload.core.watching.records import short
from nimbleload.machine.plugin_files import linked, plugin_file


@pytest.mark.parametrize(
    ("mapped", "known_by"),
    [
        ("/usr/lib/lv2/gain.lv2/gain.so", "/usr/lib/lv2/gain.lv2"),
        ("/home/me/.lv2/a b.lv2/deep/er/x.so", "/home/me/.lv2/a b.lv2"),
        ("/usr/lib/vst3/Wide.vst3/Contents/x86_64-linux/Wide.so", "/usr/lib/vst3/Wide.vst3"),
        ("/usr/lib/clap/all.clap", "/usr/lib/clap/all.clap"),
        ("/home/me/.clap/All.clap/Contents/all.so", "/home/me/.clap/All.clap"),
        ("/usr/lib/ladspa/delay_5s.so", "/usr/lib/ladspa/delay_5s.so"),
        ("/usr/lib/lv2/gain.lv2/gain.so (deleted)", "/usr/lib/lv2/gain.lv2"),
        ("/me/drive_c/Program Files/VSTPlugins/Old Tape.dll", "/me/drive_c/Program Files/VSTPlugins/Old Tape.dll"),
        ("/me/drive_c/Common Files/VST3/Air.VST3", "/me/drive_c/Common Files/VST3/Air.VST3"),
    ],
)
def test_a_plugin_is_told_by_where_its_file_lies(mapped, known_by):
    assert plugin_file(mapped) == known_by


def test_plugins_of_one_bundle_that_lie_in_files_of_their_own_are_told_apart(tmp_path):
    """Some bundles hold dozens. The file of a window is not among them."""
    bundle = tmp_path / "Many.lv2"
    bundle.mkdir()
    (bundle / "manifest.ttl").write_text(
        "<a> a lv2:Plugin ; lv2:binary <one.so> ; rdfs:seeAlso <a.ttl> .\n"
        "<b> <http://lv2plug.in/ns/lv2core#binary> <deep/two.so> .\n<w> a ui:X11UI ; ui:binary <window.so> .\n"
    )
    for inside in ("one.so", "deep/two.so"):
        assert plugin_file(f"{bundle}/{inside}") == f"{bundle}/{inside}"
    assert plugin_file(f"{bundle}/window.so") == str(bundle)
    assert short(f"{bundle}/deep/two.so") == "two"
    alone = tmp_path / "Alone.lv2"
    alone.mkdir()
    (alone / "manifest.ttl").write_text("<a> lv2:binary <dsp.so> .\n<b> lv2:binary <dsp.so> .\n")
    assert plugin_file(f"{alone}/dsp.so") == str(alone)


@pytest.mark.parametrize(
    "mapped",
    [
        "",
        "[heap]",
        "/usr/lib/libm.so.6",
        "/usr/lib/ladspa",
        "/home/me/song.lv2",
        "/usr/lib/ladspa/notes.txt",
        "/home/me/.w/drive_c/windows/system32/msvcrt.dll",
        "an.clap",
    ],
)
def test_other_files_are_none(mapped):
    assert plugin_file(mapped) == ""


def test_a_short_name_has_neither_folder_nor_ending():
    assert short("/usr/lib/lv2/gain.lv2") == "gain"


@pytest.mark.parametrize(
    ("standard", "link", "bundle"),
    [
        ("lv2", "many.lv2/many.so", "many.lv2"),
        ("clap", "maker/many.clap", "maker/many.clap"),
        ("vst3", "Many.vst3/Contents/x86_64-linux/Many.so", "Many.vst3"),
    ],
)
def test_a_file_elsewhere_is_known_by_the_link_that_leads_to_it(tmp_path, monkeypatch, standard, link, bundle):
    """Some packages keep their code in a folder of its own, and the kernel tells the name of the file, not of links."""
    code = tmp_path / "lib" / "many" / "many.so"
    code.parent.mkdir(parents=True)
    code.write_bytes(b"code")
    folder = tmp_path / standard
    (folder / link).parent.mkdir(parents=True)
    (folder / link).symlink_to(code)
    (folder / link).with_name("gone.so").symlink_to(tmp_path / "nothing")
    monkeypatch.setenv(f"{standard.upper()}_PATH", str(folder))
    linked.cache_clear()
    plugin_file.cache_clear()
    try:
        assert plugin_file(str(code)) == str(folder / bundle)
        assert plugin_file(str(code.with_name("other.so"))) == ""
    finally:
        linked.cache_clear()
        plugin_file.cache_clear()
