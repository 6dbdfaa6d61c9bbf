"""Which mapped files are plugins."""

from __future__ import annotations

import pytest

from nimbleload.machine.plugin_files import plugin_file, short, standard


@pytest.mark.parametrize(
    ("mapped", "known_by", "of"),
    [
        ("/usr/lib/lv2/gain.lv2/gain.so", "/usr/lib/lv2/gain.lv2", "lv2"),
        ("/home/me/.lv2/a b.lv2/deep/er/x.so", "/home/me/.lv2/a b.lv2", "lv2"),
        ("/usr/lib/vst3/Wide.vst3/Contents/x86_64-linux/Wide.so", "/usr/lib/vst3/Wide.vst3", "vst3"),
        ("/usr/lib/clap/all.clap", "/usr/lib/clap/all.clap", "clap"),
        ("/home/me/.clap/All.clap/Contents/all.so", "/home/me/.clap/All.clap", "clap"),
        ("/usr/lib/ladspa/delay_5s.so", "/usr/lib/ladspa/delay_5s.so", "ladspa"),
        ("/usr/lib/lv2/gain.lv2/gain.so (deleted)", "/usr/lib/lv2/gain.lv2", "lv2"),
    ],
)
def test_a_plugin_is_told_by_where_its_file_lies(mapped, known_by, of):
    assert plugin_file(mapped) == known_by
    assert standard(known_by) == of


@pytest.mark.parametrize(
    "mapped",
    [
        "",
        "[heap]",
        "/usr/lib/libm.so.6",
        "/usr/lib/ladspa",
        "/home/me/song.lv2",
        "/usr/lib/ladspa/notes.txt",
        "an.clap",
    ],
)
def test_other_files_are_none(mapped):
    assert plugin_file(mapped) == ""


def test_a_short_name_has_neither_folder_nor_ending():
    assert short("/usr/lib/lv2/gain.lv2") == "gain"
