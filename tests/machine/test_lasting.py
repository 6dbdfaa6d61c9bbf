"""The same work in every block for a while, on real threads in a process of its own."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from itertools import pairwise
from pathlib import Path

import msgspec
import pytest

from nimbleload.core.computer.lasting import Lasting, Stretch
from nimbleload.machine import lasting
from nimbleload.machine.core_clocks import CoreClocks
from nimbleload.machine.hold import Asked
from nimbleload.store import ceiling_file
from tests.helpers.computers import CPU, plain, put
from tests.helpers.sound_server import wait_for

CORE = max(os.sched_getaffinity(0))
ASKED = Asked(256, 48000, (CORE,), 0.3)
ASKING = """
import subprocess, sys
asked = subprocess.Popen([sys.executable, "-m", "nimbleload.machine.lasting", sys.argv[1]], stdout=subprocess.PIPE)
print(asked.pid, flush=True)
asked.stdout.readline()
print("runs", flush=True)
asked.wait()
"""


def test_stretches_follow_each_other_until_it_is_over():
    found = list(lasting.ask(0.2, 1.0, stretch=0.3))
    assert [len(of.stretches) for of in found] == list(range(1, len(found) + 1))
    ends = [each.until for each in found[-1].stretches]
    assert ends[-1] >= 1.0 > ends[-2] and all(0.2 < b - a < 5 for a, b in pairwise(ends))
    assert all(each.blocks == 56 and each.pace > 0 for each in found[-1].stretches)
    assert found[0].load == 0.2 and found[0].threads <= len(os.sched_getaffinity(0))


def test_it_ends_when_it_is_cancelled():
    found = []
    for of in lasting.ask(0.2, 600, lambda: bool(found), 0.3):
        found.append(of)
    assert len(found) < 5


def test_a_process_that_fails_is_a_sentence(monkeypatch):
    monkeypatch.setattr(lasting, "BUFFER", 0)
    with pytest.raises(RuntimeError, match="ZeroDivision"):
        list(lasting.ask(0.2, 1.0, stretch=0.3))


def test_the_clock_is_that_of_the_cores_that_compute(tmp_path, monkeypatch):
    root = plain(tmp_path, CORE + 2)
    put(root, f"{CPU}/cpu{CORE}/cpufreq/scaling_cur_freq", 2_000_000)
    monkeypatch.setattr(lasting, "CoreClocks", lambda: CoreClocks(root))
    monkeypatch.setattr(lasting, "LOOK_EVERY", 0.02)
    kept = lasting.keep(ASKED, 0.2)
    assert (first := next(kept)).clock == 2e9 and first.hot == 0
    put(root, f"{CPU}/cpu{CORE}/cpufreq/scaling_cur_freq", 1_000_000)
    put(root, f"{CPU}/cpu{CORE}/thermal_throttle/core_throttle_count", 5)
    put(root, f"{CPU}/cpu{CORE + 1}/thermal_throttle/core_throttle_count", 50)
    second = next(kept)
    kept.close()
    assert second.clock == pytest.approx(1e9, rel=0.05) and second.hot == 5
    both = lasting.keep(msgspec.structs.replace(ASKED, cores=(CORE, CORE + 1)), 0.2)
    assert next(both).clock == pytest.approx((1e9 + 3.6e9) / 2)
    put(root, f"{CPU}/cpu{CORE + 1}/cpufreq/scaling_cur_freq", 0)
    assert next(both).clock == 0.0
    both.close()
    for file in root.glob(f"{CPU}/cpu*/cpufreq/scaling_cur_freq"):
        file.unlink()
    kept = lasting.keep(ASKED, 0.2)
    assert next(kept).clock == 0.0
    kept.close()


def test_nobody_who_listens_is_nobody_to_compute_for():
    """The one who asked is killed: what holds the load ends by itself, within a stretch."""
    words = msgspec.json.encode((ASKED, 0.2)).decode()
    with subprocess.Popen([sys.executable, "-c", ASKING, words], stdout=subprocess.PIPE) as asking:
        number = int(asking.stdout.readline())
        assert asking.stdout.readline() == b"runs\n"
        os.kill(asking.pid, signal.SIGKILL)
    words = Path(f"/proc/{number}/cmdline")
    # Of what has ended and is not fetched by anybody the system tells no words any more.
    wait_for(lambda: not (words.exists() and words.read_bytes()), "its end")


def test_what_was_found_on_the_battery_counts_while_it_runs_on_that(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    of = Lasting(0.5, 256, 48000, 2, (Stretch(61.0, 1.0, 900, 3, True),))
    ceiling_file.keep_lasting(of)
    monkeypatch.setattr(ceiling_file, "on_battery", lambda: True)
    assert ceiling_file.read_lasting() is None
    other = msgspec.structs.replace(of, load=0.3)
    ceiling_file.keep_lasting(other)
    assert ceiling_file.read_lasting() == other
    monkeypatch.setattr(ceiling_file, "on_battery", lambda: False)
    assert ceiling_file.read_lasting() == of


def test_it_is_kept_beside_the_ceilings(tmp_path):
    path = tmp_path / "ceiling.json"
    assert ceiling_file.read_lasting(path) is None
    of = Lasting(0.5, 256, 48000, 2, (Stretch(61.0, 1.0, 900, 3, True, 2e9, 1),))
    ceiling_file.keep_lasting(of, path)
    assert ceiling_file.read_lasting(path) == of and ceiling_file.read(path) == ()
    ceiling_file.keep([], path)
    for damage in (b'"pace":1.0', b'"pace":0.0'), (b'"stretches":[{', b'"stretches":[3,{'):
        other = tmp_path / "other.json"
        other.write_bytes(path.read_bytes().replace(*damage))
        assert other.read_bytes() != path.read_bytes() and ceiling_file.read_lasting(other) is None
    assert ceiling_file.read_lasting(path) == of
