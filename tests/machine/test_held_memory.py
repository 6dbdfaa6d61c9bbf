"""What processes keep in memory, as fixture trees and real processes tell."""

from __future__ import annotations

import subprocess
import sys

import pytest

from nimbleload.machine.held_memory import held
from nimbleload.machine.watcher import Watcher
from tests.helpers.proc import process

MB = 1 << 20
KEEPS = """
import mmap, sys
print("up", flush=True); sys.stdin.readline()
own = bytearray(b"x") * (96 << 20)
file = open(sys.argv[1], "rb"); mapped = mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ)
sum(mapped[k] for k in range(0, len(mapped), 4096))
print("kept", flush=True); sys.stdin.readline()
"""


def status(root, number, **fields):
    lines = [f"{name}:\t{size:>8} kB" for name, size in fields.items()]
    (process(root, number, "mixer") / "status").write_text("\n".join(["Name:\tmixer", *lines, "Threads:\t3"]))


def test_all_processes_of_a_host_count_together(tmp_path):
    status(tmp_path, 40, VmLck=7, RssAnon=1000, RssFile=200, RssShmem=30, VmSwap=4)
    status(tmp_path, 41, VmLck=0, RssAnon=500, RssFile=100, RssShmem=0, VmSwap=1)
    (found,) = held([40, 41, 42], tmp_path)
    assert found[1:] == (1530 << 10, 300 << 10, 5 << 10, 7 << 10)
    (one,) = held([41], tmp_path)
    assert one.whole == 601 << 10


def test_what_is_not_told_is_none(tmp_path):
    status(tmp_path, 40)
    assert held([40, 41], tmp_path) == [] and held([], tmp_path) == []


@pytest.mark.usefixtures("may_watch")
def test_a_watched_host_that_loads_is_seen_to_keep_it(tmp_path):
    file = tmp_path / "samples"
    file.write_bytes(bytes(64 * MB))
    with subprocess.Popen(
        [sys.executable, "-c", KEEPS, str(file)], stdin=subprocess.PIPE, stdout=subprocess.PIPE
    ) as host:
        host.stdout.readline()
        watcher = Watcher([host.pid])
        watcher.poll()
        host.stdin.write(b"\n")
        host.stdin.flush()
        assert host.stdout.readline() == b"kept\n"
        watcher._next_memory = 0.0
        watcher.poll()
        found = watcher.recording().memory
        watcher.close()
        host.kill()
    before, after = found[0], found[-1]
    assert after.time > before.time
    assert after.own - before.own == pytest.approx(96 * MB, abs=4 * MB)
    assert after.files - before.files == pytest.approx(64 * MB, abs=4 * MB)
