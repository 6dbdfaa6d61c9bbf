"""Waiting for a core to be as fast as ever, and no longer than that brings something."""

from __future__ import annotations

import time

import numpy as np
import pytest

from nimbleload.probe.pace import MOST_ROUNDS, Pace


@pytest.mark.parametrize(("good", "made"), [(True, [3, 3, 3]), (False, [3 * MOST_ROUNDS, 3, 3])])
def test_what_was_waited_for_in_vain_is_not_waited_for_again(monkeypatch, good, made):
    monkeypatch.setattr(Pace, "is_good", lambda self: good)
    pace = Pace()
    found = [pace.quiet_runs(lambda: np.ones(1, np.int64), 3) for _ in made]
    assert [(len(runs), enough) for runs, enough in found] == [(count, good) for count in made]
    # Once it has been as fast as ever, it is worth waiting for.
    monkeypatch.setattr(Pace, "is_good", lambda self: True)
    pace.wait()
    monkeypatch.setattr(Pace, "is_good", lambda self: False)
    assert len(pace.quiet_runs(lambda: np.ones(1, np.int64), 3)[0]) == 3 * MOST_ROUNDS


def test_in_a_hurry_nothing_is_waited_for(monkeypatch):
    asked = []
    monkeypatch.setattr(Pace, "is_good", lambda self: asked.append(time.sleep(0.001)))
    pace = Pace()
    pace.wait()
    waited = len(asked)
    pace.hurry()
    pace.wait()
    assert len(asked) - waited == 1 < waited
