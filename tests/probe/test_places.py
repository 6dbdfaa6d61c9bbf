"""Whose code is whose in files that hold several plugins: against the linker's own tools, and real plugins."""

from __future__ import annotations

import ctypes as c
import random
import shutil
import subprocess
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from nimbleload.core.watching.records import ALL
from nimbleload.machine.maps import Part
from nimbleload.probe import catalogue
from nimbleload.probe.elf import ElfError, functions
from nimbleload.probe.formats.hosted import PluginError
from nimbleload.probe.places import owners, places, words
from tests.helpers.host import several

CALF = Path("/usr/lib/lv2/calf.lv2/calf.so")


@pytest.fixture
def file(tmp_path):
    if shutil.which("gcc") is None:
        pytest.skip("no C compiler to build the plugins with")
    return several(tmp_path)


def listed(file, *flags):
    """Functions by their addresses, as the linker's own tool lists them: names and sizes."""
    told = subprocess.run(["nm", "-S", *flags, str(file)], capture_output=True, text=True, check=True).stdout
    lines = [line.split() for line in told.splitlines()]
    return {int(line[0], 16): (line[3], int(line[1], 16)) for line in lines if len(line) == 4 and line[2] in "tT"}


def test_functions_are_those_that_the_linker_lists(file):
    found = functions(file)
    own = dict(zip(found.address.tolist(), found.names, strict=True))
    sizes = dict(zip(found.address.tolist(), (found.end - found.begin).tolist(), strict=True))
    for address, (name, size) in listed(file).items():
        assert own[address] == name and sizes[address] >= size
    assert (found.begin[1:] >= found.end[:-1]).all()
    # The bytes there are the ones that are loaded there.
    loaded = c.CDLL(str(file))
    begin = int(found.begin[found.names.index("run_small")])
    there = c.cast(loaded.run_small, c.c_void_p).value
    assert c.string_at(there, 16) == file.read_bytes()[begin : begin + 16]


def test_where_names_were_taken_out_functions_are_still_told_from_each_other(file, tmp_path):
    before, after = functions(file), functions(several(tmp_path, stripped=True))
    assert "spent" in before.names and "spent" not in after.names and "run_small" in after.names
    at = int(before.begin[before.names.index("spent")])
    assert at in after.begin.tolist()
    assert sum(1 for name in after.names if not name) > 3


@pytest.mark.parametrize("stripped", [False, True])
def test_each_plugin_has_its_own_function_and_what_two_share_is_neithers(file, tmp_path, stripped):
    file = several(tmp_path, stripped)
    found = functions(file)
    ranges = {name: (int(b), int(e)) for name, b, e in zip(found.names, found.begin, found.end, strict=True)}
    assert places(file) == (
        catalogue.Place("1:small", (ranges["run_small"],)), catalogue.Place("2:large", (ranges["run_large"],)),
    )  # fmt: skip


def test_a_damaged_file_is_a_sentence(file, tmp_path):
    whole, rng, other = file.read_bytes(), random.Random(7), tmp_path / "other.so"
    for _ in range(300):
        content = bytearray(whole[: rng.choice((len(whole), rng.randrange(len(whole))))])
        for _ in range(rng.randint(0, 8)):
            content[rng.randrange(min(len(content), 2000))] = rng.randrange(256) if content else 0
        other.write_bytes(content)
        try:
            found = functions(other)
        except ElfError as error:
            assert str(other) in str(error)
        else:
            assert len(found.names) == len(found.address) == len(found.begin) == len(found.end)
    other.write_text("no code")
    with pytest.raises(PluginError, match="no file of code"):
        places(other)


def test_a_name_is_made_of_words_with_their_lengths():
    assert words("_ZN4calf6reverb7processEjj") == {"calf", "reverb", "process"}
    assert words("_ZN7wrapperINS_3eq8EE6cb_runEPvj") == {"wrapper", "eq8", "cb_run"}
    assert words("run_small") == {"run_small"} and words("") == set()
    assert words("_Z99short") == set()


def test_words_of_one_plugins_functions_alone_mark_its_others():
    names = ["_Z3runI6reverbEvv", "_Z3runI4echoEvv", "_ZN6reverb4combEv", "_ZN4echo4combEv", "_ZN4comb4stepEv",
             "_Z4bothI6reverb4echoEvv", "", "_ZN6reverb4combEv"]  # fmt: skip
    assert owners([[0], [1]], names).tolist() == [0, 1, 0, 1, -1, -1, -1, 0]
    assert owners([[0, 4], [1, 4]], names).tolist() == [0, 1, 0, 1, -1, -1, -1, 0]
    assert owners([[], [6]], names)[6] == 1


@pytest.mark.skipif(not CALF.exists(), reason="calf-plugins is not installed")
def test_of_real_plugins_in_one_file_each_has_its_own_code():
    found = places(CALF)
    assert len(found) == 51
    lie = sorted(each for of in found for each in of.ranges)
    assert all(begin < end for begin, end in lie) and all(a[1] <= b[0] for a, b in pairwise(lie))
    table, own = functions(CALF.resolve()), {of.identifier.rpartition("/")[2]: of.ranges for of in found}
    at = {name: int(begin) for name, begin in zip(table.names, table.begin, strict=True)}
    inside = {
        plugin: [name for name, place in at.items() if any(b <= place < e for b, e in own[plugin])]
        for plugin in ("Reverb", "Compressor")
    }
    assert any("19reverb_audio_module7process" in name for name in inside["Reverb"])
    assert all("23compressor_audio_module" in name for name in inside["Compressor"])
    assert np.array(lie).max() < CALF.stat().st_size


def test_they_are_looked_for_once_in_a_process_of_their_own_and_kept(file, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    scanned = catalogue.catalogue([file], catalogue.cache_file())
    assert [plugin.name for plugin in scanned[0].plugins] == ["small", "large", "one", "other"]
    expected = {str(file): [Part(of.identifier, of.ranges) for of in places(file)]}
    assert catalogue.parts() == expected
    assert catalogue.names_by_file(scanned) == {
        str(file): "several (4 plugins in one file)", f"{file}::1:small": "small", f"{file}::2:large": "large",
        f"{file}::3:one": "one", f"{file}::4:other": "other",
    }  # fmt: skip
    monkeypatch.setattr(catalogue, "scan", lambda files: pytest.fail("looked into again") if files else iter(()))
    assert catalogue.catalogue([file], catalogue.cache_file()) == scanned and catalogue.parts() == expected


@pytest.mark.skipif(not CALF.exists(), reason="calf-plugins is not installed")
def test_where_all_plugins_of_a_file_are_told_apart_that_is_known(shared_cache):
    catalogue.catalogue()
    (parts,) = (each for path, each in catalogue.parts().items() if path.endswith("calf.so"))
    assert len(parts) == 52 and parts[-1] == Part(ALL, ())
