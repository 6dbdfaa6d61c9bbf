"""The clocks of cores as the kernel tells them, in trees of our own and while a host is watched."""

from __future__ import annotations

import os

import numpy as np
import pytest

from nimbleload.machine import core_clocks
from nimbleload.machine.core_clocks import CoreClocks
from nimbleload.machine.watcher import Watcher
from tests.helpers.computers import CPU, plain, put, virtual


def test_each_look_tells_what_is_so_then(tmp_path):
    clocks = CoreClocks(plain(tmp_path, 2))
    clocks.look()
    put(tmp_path, f"{CPU}/cpu1/cpufreq/scaling_cur_freq", 1_200_000)
    put(tmp_path, f"{CPU}/cpu1/thermal_throttle/core_throttle_count", 3)
    put(tmp_path, f"{CPU}/cpu0/thermal_throttle/package_throttle_count", 4)
    clocks.look()
    found = clocks.found
    clocks.close()
    assert found.core.tolist() == [0, 1] and found.most.tolist() == [4_000_000_000] * 2
    assert found.clock.tolist() == [[3_600_000_000] * 2, [3_600_000_000, 1_200_000_000]]
    # The count of a whole processor was not there when the files were opened.
    assert found.hot.tolist() == [[0, 0], [0, 3]] and found.time[0] < found.time[1]


def test_cores_that_tell_nothing_are_left_out(tmp_path):
    plain(tmp_path, 3)
    (tmp_path / f"{CPU}/cpu1/cpufreq/scaling_cur_freq").unlink()
    put(tmp_path, f"{CPU}/cpu2/cpufreq/scaling_cur_freq", "<unknown>")
    (tmp_path / f"{CPU}/cpu0/thermal_throttle/core_throttle_count").unlink()
    put(tmp_path, f"{CPU}/cpu0/thermal_throttle/package_throttle_count", 9)
    clocks = CoreClocks(tmp_path)
    clocks.look()
    assert clocks.found.core.tolist() == [0] and clocks.found.hot.tolist() == [[9]]
    nothing = CoreClocks(virtual(tmp_path / "virtual"))
    nothing.look()
    assert nothing.found.clock.shape == (0, 0)


def test_a_core_that_goes_tells_nothing_from_then_on(tmp_path):
    clocks = CoreClocks(plain(tmp_path, 1))
    os.close(clocks._files[0][0])
    clocks._files[0][0] = os.open(tmp_path, os.O_RDONLY)  # which cannot be read
    clocks.look()
    assert clocks.found.clock.tolist() == [[0]]
    clocks.close()


def test_when_there_is_no_more_room_the_first_half_goes(tmp_path, monkeypatch):
    monkeypatch.setattr(core_clocks, "MOST", 6)
    clocks = CoreClocks(plain(tmp_path, 1))
    for clock in range(1, 9):
        put(tmp_path, f"{CPU}/cpu0/cpufreq/scaling_cur_freq", clock)
        clocks.look()
    assert clocks.found.clock[:, 0].tolist() == [4000, 5000, 6000, 7000, 8000]
    assert (np.diff(clocks.found.time) > 0).all()
    clocks.close()


@pytest.mark.usefixtures("may_watch")
def test_they_are_kept_while_a_host_is_watched(tmp_path):
    watcher = Watcher([os.getpid()], computer=plain(tmp_path, 2))
    watcher.poll()
    put(tmp_path, f"{CPU}/cpu0/cpufreq/scaling_cur_freq", 1_000_000)
    watcher._next_memory = 0.0
    watcher.poll()
    found = watcher.recording(0.0).clocks
    watcher.close()
    assert found.clock.tolist() == [[3_600_000_000] * 2, [1_000_000_000, 3_600_000_000]]
