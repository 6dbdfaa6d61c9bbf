"""Sessions from files: for this computer where the file says none."""

from __future__ import annotations

from msgspec.structs import replace

from nimbleload.core.session.computer import Machine, kept_on
from nimbleload.store import opening, session_file, this_computer
from nimbleload.store.session_file import Saved
from tests.helpers import exports
from tests.helpers.sessions import session, track


def test_what_is_imported_is_for_the_cores_of_this_computer(tmp_path, desktop):
    source = exports.export(tmp_path / "a.dawproject", exports.FIRST)
    assert opening.open_session(source).saved.machine == desktop
    assert opening.made_here(session(track("a")), 3).machine == Machine(3, measured_cores=20)
    path = tmp_path / "a.nimbleload"
    session_file.write(path, Saved(session(track("a")), machine=Machine(3)))
    assert opening.open_session(path).saved.machine == Machine(3)


def test_as_seen_from_here(desktop):
    assert this_computer.from_here(Machine(20)) == desktop
    assert this_computer.from_here(desktop, 20) == desktop
    assert this_computer.from_here(kept_on(6, desktop), 6) == Machine(6, measured_cores=20)
    assert this_computer.from_here(desktop, 4) == Machine(4, measured_cores=20)
    assert this_computer.from_here(kept_on(6, desktop)) == kept_on(6, desktop) == this_computer.part_of_it(6)
    # A session that was saved before it was known has what there is.
    assert this_computer.from_here(replace(kept_on(6, desktop), memory=0.0)) == kept_on(6, desktop)


def test_there_is_as_much_memory_as_the_system_has_or_lets_this_group_of_processes_have(tmp_path):
    assert this_computer.memory_of(tmp_path) == 0
    told, most = tmp_path / "proc/meminfo", tmp_path / "sys/fs/cgroup/memory.max"
    for file in (told, most):
        file.parent.mkdir(parents=True)
    told.write_text("MemTotal:       16384000 kB\nMemFree:         1000 kB\n")
    assert this_computer.memory_of(tmp_path) == 16384000 * 1024
    for words, memory in (("max", 16384000 * 1024), ("4294967296", 4 << 30), ("99999999999999", 16384000 * 1024)):
        most.write_text(f"{words}\n")
        assert this_computer.memory_of(tmp_path) == memory
