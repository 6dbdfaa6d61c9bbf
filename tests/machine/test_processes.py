"""Which hosts run, told from a /proc of our own making and from the real one."""

from __future__ import annotations

import os
import threading

import pytest

from nimbleload.machine import processes
from tests.helpers.proc import mapping, process

LV2 = mapping("/usr/lib/lv2/gain.lv2/gain.so", 0x7000, 0x8000)


def test_threads_are_told_with_what_they_may_and_took(tmp_path):
    process(tmp_path, 40, "mixer (2)", threads=((40, "mixer (2)", 0), (41, "audio) x", 1), (42, "round", 2)))
    found = processes.threads(40, tmp_path)
    assert [(t.number, t.name, t.is_real_time, t.priority) for t in found] == [
        (40, "mixer (2)", False, 0), (41, "audio) x", True, 40), (42, "round", True, 40),
    ]  # fmt: skip
    assert (found[0].cpu, found[0].waited) == (2.5, 0.04)
    assert processes.threads(99, tmp_path) == []


def test_hosts_are_those_with_plugins_or_threads_in_real_time(tmp_path):
    process(tmp_path, 40, "mixer", maps=LV2 * 2 + mapping("/usr/lib/libm.so.6", 0x9000, 0xA000))
    process(tmp_path, 50, "server", threads=((50, "server", 0), (51, "audio", 1)))
    process(tmp_path, 60, "editor")
    (tmp_path / "self").mkdir()
    found = processes.hosts(tmp_path)
    assert [(h.number, h.name, h.plugins, h.real_time_threads) for h in found] == [
        (40, "mixer", ("/usr/lib/lv2/gain.lv2",), 0), (50, "server", (), 1),
    ]  # fmt: skip


def test_what_vanishes_while_it_is_read_is_left_out(tmp_path):
    process(tmp_path, 40, "mixer", maps=LV2)
    (process(tmp_path, 41, "gone", maps=LV2) / "stat").unlink()
    broken = process(tmp_path, 42, "broken", maps=LV2)
    (broken / "stat").write_text("42 (broken) S")
    assert [h.number for h in processes.hosts(tmp_path)] == [40]


def test_a_program_in_an_interpreter_is_called_by_its_own_name(tmp_path):
    process(tmp_path, 40, "python3", words="/usr/bin/python3 -u /opt/mixer.py song")
    process(tmp_path, 41, "python3", words="/usr/bin/python3 -i")
    assert processes.program(40, tmp_path) == "mixer.py"
    assert processes.program(41, tmp_path) == "python3"
    assert processes.program(99, tmp_path) == ""
    # Code on the command line is no name, a module is; and who only begins like an interpreter is none.
    process(tmp_path, 42, "python3", words="python3.11 -u -c import(sys) now")
    process(tmp_path, 43, "python3", words="python3 -m mixing song")
    process(tmp_path, 44, "shimmer", words="/opt/shimmer song.tune")
    assert [processes.program(number, tmp_path) for number in (42, 43, 44)] == ["python3.11", "mixing", "shimmer"]


def test_a_program_for_windows_is_called_by_its_own_name_too(tmp_path):
    folder = process(tmp_path, 40, "mixer.exe")
    (folder / "cmdline").write_bytes(b"C:\\Program Files\\Mixer\\mixer.exe\0song")
    assert processes.program(40, tmp_path) == "mixer.exe"


def test_bridges_below_a_host_belong_to_it(tmp_path):
    for number, parent in ((40, 1), (41, 40), (42, 41), (43, 1)):
        process(tmp_path, number, "any", parent)
    assert processes.descendants([40], tmp_path) == [40, 41, 42]
    assert processes.descendants([43, 41], tmp_path) == [43, 41, 42]


def shared(name, inode=77, flags="rw-s"):
    return f"7f00-7f10 {flags} 00000000 00:1a {inode}                       {name}\n"


def test_bridges_that_nobody_started_share_memory_with_their_host(tmp_path):
    one = shared("/dev/shm/bridge-1")
    process(tmp_path, 40, "mixer", maps=LV2 + one + shared("/memfd:ring (deleted)", 80))
    process(tmp_path, 50, "bridge", maps=LV2 + one)
    process(tmp_path, 51, "ring", maps=LV2 + shared("/memfd:ring (deleted)", 80))
    process(tmp_path, 52, "screen", maps=one)  # no plugins
    process(tmp_path, 53, "another", maps=LV2 + shared("/dev/shm/bridge-1", 78))  # of the same name only
    process(tmp_path, 54, "private", maps=LV2 + shared("/dev/shm/bridge-1", flags="rw-p"))
    assert processes.bridges([40], tmp_path) == [50, 51]
    assert processes.bridges([50], tmp_path) == [40]
    assert processes.bridges([52], tmp_path) == [40, 50]
    assert processes.bridges([53, 99], tmp_path) == []


@pytest.mark.parametrize("name", ["/dev/shm/jack_default_1_0", "/memfd:pipewire-memfd", "/dev/shm/PulseAudio-7"])
def test_clients_of_one_sound_server_are_no_bridges_of_each_other(tmp_path, name):
    process(tmp_path, 40, "mixer", maps=LV2 + shared(name))
    process(tmp_path, 50, "other", maps=LV2 + shared(name))
    assert processes.bridges([40], tmp_path) == []


def test_another_users_process_is_refused(tmp_path, monkeypatch):
    process(tmp_path, 40, "mixer")
    monkeypatch.setattr(os, "getuid", lambda: 54321)
    with pytest.raises(PermissionError, match="another user's"):
        processes.process(40, tmp_path)
    assert list(processes.processes(tmp_path)) == []


def test_this_process_is_found_with_its_threads_but_is_no_host():
    stop = threading.Event()
    thread = threading.Thread(target=stop.wait)
    thread.start()
    try:
        assert thread.native_id in {t.number for t in processes.threads(os.getpid())}
        assert os.getpid() not in {p.number for p in processes.processes()}
        assert processes.process(os.getpid()).parent == os.getppid()
    finally:
        stop.set()
        thread.join()
