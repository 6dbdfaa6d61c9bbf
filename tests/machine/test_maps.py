"""To whom addresses belong, and what records say of them."""

from __future__ import annotations

import numpy as np

from nimbleload.core.watching.records import GIVES_WAY, HOST, LIBRARY, NOBODY, SLEEPS, TAKES
from nimbleload.machine import perf, perf_records
from nimbleload.machine.maps import Maps, Part
from tests.helpers.proc import mapping, process

MAPPED = (
    mapping("/usr/bin/mixer", 0x1000, 0x2000)
    + mapping("/usr/lib/lv2/gain.lv2/gain.so", 0x3000, 0x3800, "r--p")
    + mapping("/usr/lib/lv2/gain.lv2/gain.so", 0x4000, 0x5000)
    + mapping("/usr/lib/clap/wide one.clap", 0x6000, 0x7000)
    + mapping("/usr/lib/libm.so.6", 0x8000, 0x9000)
    + mapping("", 0xA000, 0xB000)
)


def test_each_range_of_code_has_its_owner(tmp_path):
    process(tmp_path, 40, "mixer", maps=MAPPED)
    files = ["/usr/lib/ladspa/first.so"]
    maps = Maps(40, files, tmp_path)
    assert files == ["/usr/lib/ladspa/first.so", "/usr/lib/lv2/gain.lv2", "/usr/lib/clap/wide one.clap"]
    assert maps.begin.tolist() == [0x1000, 0x4000, 0x6000, 0x8000, 0xA000]
    assert maps.owner.tolist() == [HOST, 2, 3, LIBRARY, LIBRARY]


def test_code_that_only_waits_is_found_in_the_file_that_is_mapped(tmp_path):
    """At 0x10 of the second page of the file: pause; jmp back to it."""
    folder = process(tmp_path, 40, "mixer", maps=f"400000-402000 r-xp 00001000 08:01 99 {tmp_path}/mixer\n")
    (tmp_path / "mixer").write_bytes(bytes(0x1010) + b"\xf3\x90\xeb\xfc" + bytes(0x2000))
    (folder / "root").symlink_to("/")
    maps = Maps(40, [], tmp_path)
    addresses = np.array([0x40000F, 0x400010, 0x400013, 0x400014, 0x500010, 0])
    assert maps.only_waits(addresses).tolist() == [False, True, True, False, False, False]
    # Other code may lie there later.
    (folder / "maps").write_text(f"400000-402000 r-xp 00000000 08:01 99 {tmp_path}/mixer\n")
    maps.look_again()
    assert not maps.only_waits(addresses[:4]).any()
    (folder / "maps").write_text(f"3ff000-403000 r-xp 00000000 08:01 99 {tmp_path}/mixer\n")
    assert maps.look_again()
    assert maps.only_waits(addresses).tolist() == [False, True, True, False, False, False]
    # A loop over the border of two pages, in code that begins in the middle of one.
    (tmp_path / "mixer").write_bytes(bytes(0x1FF0) + b"\x90" * 15 + b"\xf3\x90\x90\x75\xeb" + bytes(0x2000))
    (folder / "maps").write_text(f"400800-403000 r-xp 00000800 08:01 99 {tmp_path}/mixer\n")
    assert maps.look_again()
    assert maps.only_waits(np.array([0x401FEE, 0x401FEF, 0x402003, 0x402004])).tolist() == [False, True, True, False]
    before = f"300000-301000 r-xp 00000000 08:01 98 {tmp_path}/other\n"
    (folder / "maps").write_text(f"{before}402002-403000 r-xp 00002002 08:01 99 {tmp_path}/mixer\n")
    assert Maps(40, [], tmp_path).only_waits(np.array([0x402003, 0x402004])).tolist() == [True, False]
    (tmp_path / "mixer").unlink()
    assert not Maps(40, [], tmp_path).only_waits(addresses).any()


def test_what_is_loaded_later_is_seen_when_looked_again(tmp_path):
    folder = process(tmp_path, 40, "mixer", maps=mapping("/usr/bin/mixer", 0x1000, 0x2000))
    files: list[str] = []
    maps = Maps(40, files, tmp_path)
    assert not maps.look_again()
    (folder / "maps").write_text(MAPPED)
    assert maps.look_again()
    assert len(files) == 2
    (folder / "maps").unlink()
    assert not maps.look_again()
    assert len(maps.begin) == 5


# As the loader of programs for Windows leaves them: the first page is mapped, the rest is read into memory behind it.
WINDOWS = (
    mapping("/opt/bridge.exe", 0x140000000, 0x140001000, "r--p") + mapping("", 0x140001000, 0x140008000)
    + mapping("/opt/bridge.exe", 0x14000D000, 0x14000E000, "rw-p") + mapping("", 0x14000E000, 0x140010000)
    + mapping("/usr/lib/windows/ntdll.dll", 0x170000000, 0x170001000, "r--p")
    + mapping("/usr/lib/windows/ntdll.dll", 0x170001000, 0x170069000)
    + mapping("/home/me/VST3/Foo.vst3", 0x3B3170000, 0x3B3171000, "r--p") + mapping("", 0x3B3171000, 0x3B3173000)
    + mapping("", 0x3B3179000, 0x3B317C000)
    + mapping("/usr/lib/lv2/a.lv2/a.so", 0x7F0000000000, 0x7F0000001000) + mapping("", 0x7F0000001000, 0x7F0000002000)
)  # fmt: skip


def test_code_for_windows_lies_in_memory_of_no_file_right_behind_its_own(tmp_path):
    process(tmp_path, 40, "bridge", maps=WINDOWS)
    files = []
    maps = Maps(40, files, tmp_path)

    def owner(address):
        inside = (maps.begin <= address) & (address < maps.end)
        return int(maps.owner[inside][0]) if inside.any() else None

    assert files == ["/home/me/VST3/Foo.vst3", "/usr/lib/lv2/a.lv2"]
    assert owner(0x140002000) == owner(0x14000E800) == HOST and owner(0x170002000) == LIBRARY
    assert owner(0x3B3172000) == 1
    # With a gap in between it is anybody's; and what lies behind other files is made while they run.
    assert owner(0x3B3179800) == LIBRARY and owner(0x7F0000001800) == LIBRARY and owner(0x7F0000000800) == 2


SEVERAL = "/usr/lib/ladspa/several.so"
RANGES = ((0x2010, 0x2020), (0x2080, 0x2100)), ((0x2020, 0x2040), (0x2FF0, 0x9000))
PARTS = {SEVERAL: [Part("1:a", RANGES[0]), Part("2:b", RANGES[1])]}
SHARED = (
    mapping("/usr/bin/mixer", 0x1000, 0x2000)
    + mapping(SEVERAL, 0x40000, 0x41000, offset=0x2000)
    + mapping(SEVERAL, 0x50000, 0x51000, "r--p", offset=0x3000)
    + mapping("/usr/lib/ladspa/other.so", 0x60000, 0x61000, offset=0x2000)
    + mapping("/usr/lib/libm.so.6", 0x80000, 0x81000)
)


def with_parts(tmp_path, maps=SHARED):
    process(tmp_path, 40, "mixer", maps=maps)
    return Maps(40, [], tmp_path, PARTS)


def test_what_is_one_plugins_own_in_a_file_of_several_is_told_from_what_they_share(tmp_path):
    maps = with_parts(tmp_path)
    assert maps._files == [SEVERAL, f"{SEVERAL}::1:a", f"{SEVERAL}::2:b", "/usr/lib/ladspa/other.so"]
    assert maps.whole.tolist() == [0, 1, 1, 1, 0]
    assert (maps.begin[1:] >= maps.end[:-1]).all()
    places = [range(first + 0x3E000, min(last, 0x3000) + 0x3E000) for own in RANGES for first, last in own]
    for address in range(0x40000, 0x41000, 8):
        (owner,) = maps.owner[(maps.begin <= address) & (address < maps.end)]
        assert owner == next((2 + k // 2 for k, place in enumerate(places) if address in place), 1)


def test_a_file_that_was_replaced_meanwhile_is_not_told_apart(tmp_path):
    """Where its plugins lie was looked up in the new one."""
    maps = with_parts(tmp_path, mapping(f"{SEVERAL} (deleted)", 0x40000, 0x41000, offset=0x2000))
    assert maps._files == [SEVERAL] and maps.owner.tolist() == [1] and not maps.whole.any()


def test_what_plugins_of_one_file_share_computes_for_the_one_that_called_it(tmp_path):
    maps = with_parts(tmp_path)
    shared, a, b, host, library, other = 0x40050, 0x40012, 0x40030, 0x1100, 0x80010, 0x60050
    samples = [
        sample(a, 1, b), sample(shared, 2, a, b), sample(shared, 3, 0x99, shared, b, a), sample(shared, 4, host, a),
        sample(library, 5, shared, a), sample(library, 6, b), sample(library, 7, shared, host, a), sample(shared, 8),
        sample(other, 9, a), sample(library, 10, other, a), sample(library, 11, host, a),
        sample(shared, 12, other, library, b), sample(shared, 13, a, valid=0),
    ]  # fmt: skip
    words = np.array([word for each in samples for word in each], np.uint64)
    found = perf.read(words, maps.begin, maps.end, maps.owner, maps.whole)
    assert found.sample_owner.tolist() == [2, 2, 3, 1, 2, 3, 1, 1, 4, 4, HOST, 3, 1]


def record(kind, flags, *words):
    return [(len(words) + 1) * 8 << 48 | flags << 32 | kind, *words]


def switch(time, flags=0, core=3):
    return record(perf_records.SWITCH, flags, 77, time, core)


def sample(address, time, *stack, valid=None, registers=True, of=9):
    held = [1, 0xFF00] if registers else [0]
    copied = [len(stack) * 8, *stack, 8 * (len(stack) if valid is None else valid)] if stack else [0]
    return record(perf_records.SAMPLE, 0, of, address, 77, time, 3, *held, *copied)


def told(tmp_path, *records):
    process(tmp_path, 40, "mixer", maps=MAPPED)
    maps = Maps(40, [], tmp_path)
    words = np.array([word for each in records for word in each], np.uint64)
    return perf.read(words, maps.begin, maps.end, maps.owner)


def test_switches_say_when_and_why(tmp_path):
    out = perf_records.SWITCHED_OUT
    found = told(tmp_path, switch(10), switch(20, out), switch(30, core=1), switch(40, out | perf_records.PREEMPTED))
    assert found.switch_time.tolist() == [10, 20, 30, 40]
    assert found.switch_kind.tolist() == [TAKES, SLEEPS, TAKES, GIVES_WAY]
    assert found.switch_cpu.tolist() == [3, 3, 1, 3]


def test_an_address_belongs_to_its_file(tmp_path):
    found = told(tmp_path, *(sample(at, at) for at in (0x1000, 0x1FFF, 0x2000, 0x4500, 0x6FFF, 0x500)))
    assert found.sample_owner.tolist() == [HOST, HOST, NOBODY, 1, 2, NOBODY]


def test_a_library_computes_for_the_first_of_its_callers_that_is_a_plugin_or_the_host(tmp_path):
    found = told(
        tmp_path,
        sample(0x8100, 1, 0x123456, 0x8200, 0x4100, 0x6100),
        sample(0x8100, 2, 0x1100, 0x4100),
        sample(0x8100, 3, 0x8200, 0x99),
        # What lies above the stack's end was not copied, but left over.
        sample(0x8100, 4, 0x8200, 0x4100, valid=1),
        # Code that is made while the program runs belongs to whoever calls it, too.
        sample(0xA100, 5, 0x6100),
        sample(0x8100, 6),
        sample(0x8100, 7, registers=False),
    )
    assert found.sample_owner.tolist() == [1, HOST, LIBRARY, LIBRARY, 2, LIBRARY, LIBRARY]
    assert found.sample_time.tolist() == [1, 2, 3, 4, 5, 6, 7]


def test_lost_records_are_counted_and_unknown_ones_passed_over(tmp_path):
    lost = record(perf_records.LOST, 0, 5, 12, 77, 1, 3), record(perf_records.LOST, 0, 5, 3)
    found = told(tmp_path, lost[0], record(4, 0, 1, 2, 3), switch(9), lost[1])
    assert found.lost == 15
    assert found.switch_time.tolist() == [9]
