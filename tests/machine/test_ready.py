"""How long threads were ready to run: read again and again, kept for a while."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import numpy as np
import pytest

from nimbleload.machine import ready
from nimbleload.machine.ready import MOST, Ready


def opened():
    return sum(1 for _ in Path("/proc/self/fd").iterdir())


def put(root, thread, waited, ran=1000):
    folder = root / "5" / "task" / str(thread)
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "schedstat").open("r+" if (folder / "schedstat").exists() else "w") as file:
        file.write(f"{ran} {waited} 7\n")


def test_readings_come_in_order_with_the_last_before_a_time(tmp_path, monkeypatch):
    # The clock before each reading, and after it: the third took too long.
    begun = range(1_000_000_000, 100_000_000_000, 1_000_000_000)
    now = iter([at for n, begun in enumerate(begun) for at in (begun, begun + (ready.READ_WITHIN + (n == 2)))])
    monkeypatch.setattr(ready.time, "monotonic_ns", lambda: next(now))
    of = Ready(3.0, tmp_path)
    put(tmp_path, 7, 100)
    of.follow([(5, 7), (5, 8)])
    for waited in (100, 100, 300, 350, 900, 950):
        put(tmp_path, 7, waited, 3 * waited)
        of.look()
    time, waited, ran = of.found(7, 0)
    # Kept for three seconds.
    assert (time.tolist(), waited.tolist()) == ([4 * 10**9, 5 * 10**9, 6 * 10**9], [350, 900, 950])
    time, waited, ran = of.found(7, 5_500_000_000)
    assert (time.tolist(), waited.tolist()) == ([5 * 10**9, 6 * 10**9], [900, 950])
    assert ran.tolist() == [2700, 2850]
    assert [len(each) for each in of.found(8, 0)] == [0, 0, 0]
    of.close()


def test_no_file_stays_open_and_a_thread_that_ended_is_left_out(tmp_path):
    before = opened()
    for thread in range(MOST + 10):
        put(tmp_path, thread, 1)
    of = Ready(10.0, tmp_path)
    of.follow([(5, thread) for thread in range(MOST + 10)])
    assert opened() == before + MOST
    (tmp_path / "5/task/3/schedstat").write_text("")
    of.look()
    assert len(of.found(3, 0)[0]) == 0 and len(of.found(4, 0)[0]) == 1 and opened() == before + MOST - 1
    of.follow([(5, 4)])
    assert opened() == before + 1
    of.close()
    assert opened() == before


def test_what_the_system_counts_never_gets_less():
    of = Ready(10.0)
    of.follow([(os.getpid(), threading.get_native_id())])
    for _ in range(5):
        of.look()
    time, waited, ran = of.found(threading.get_native_id(), 0)
    assert len(time) == 5 and (np.diff(time) > 0).all() and (np.diff(waited) >= 0).all()
    assert waited.dtype == np.int64 and waited[0] >= 0 and (np.diff(ran) >= 0).all() and ran[0] > 0
    assert time == pytest.approx(time[0], abs=60e9)
    of.close()
