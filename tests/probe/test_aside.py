"""Where a plugin's own threads go: to other cores, and to the other half of its own only if there is nothing else."""

from __future__ import annotations

import os
import threading

import pytest

from nimbleload.probe import aside


@pytest.mark.parametrize(("every", "left"), [
    ({0, 1, 2, 3}, {0, 2}), ({1, 3}, {3}), ({1}, {1}), ({0, 1, 2}, {0, 2}),
])  # fmt: skip
def test_the_other_half_of_the_core_stays_free_where_it_can(every, left, monkeypatch):
    """Core 1 is measured on; 3 is its other thread."""
    given = {}
    monkeypatch.setattr(aside, "EVERYWHERE", every)
    monkeypatch.setattr(aside, "TOGETHER_ON", {0: (0, 2), 1: (1, 3), 2: (0, 2), 3: (1, 3)})
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: {1})
    monkeypatch.setattr(os, "sched_setaffinity", given.__setitem__)
    stop = threading.Event()
    own = threading.Thread(target=stop.wait)
    own.start()
    try:
        aside.let_go()
    finally:
        stop.set()
        own.join()
    assert given[own.native_id] == left and threading.get_native_id() not in given
