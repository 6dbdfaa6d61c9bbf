"""Where is measured, on computers of every kind, and that nothing else of ours runs there."""

from __future__ import annotations

import os

import pytest

from nimbleload.core.decisions.decision import Plan
from nimbleload.core.session.computer import Machine
from nimbleload.core.survey import instant, survey
from nimbleload.native.cores import cores
from nimbleload.probe import rehearsal, restraint
from nimbleload.probe.messages import Place
from nimbleload.probe.restraint import keep_off, place
from tests.helpers import computers
from tests.helpers.sessions import session, track


@pytest.fixture
def pretended(tmp_path, monkeypatch):
    """Has `place` believe that this is one of the computers of our own making."""

    def pretend(make, count):
        found = cores(make(tmp_path), frozenset(range(count)))
        monkeypatch.setattr(restraint, "cores", lambda: found)

    return pretend


@pytest.mark.parametrize(("make", "count", "expected"), [
    (computers.plain, 4, Place(3, (), (2, 1, 0))),
    (computers.plain, 1, Place(0)),
    (computers.laptop, 4, Place(1, (3,), (0,))),
    (computers.hybrid, 8, Place(2, (3,), (0, 7, 6, 5, 4), 5)),
    (computers.desktop, 20, Place(10, (11,), (8, 6, 4, 2, 0, *range(19, 11, -1)), 15)),
])  # fmt: skip
def test_it_is_a_fast_core_whatever_its_number(make, count, expected, pretended):
    pretended(make, count)
    assert place() == expected


@pytest.mark.parametrize(("mine", "left"), [
    ({0, 1, 2, 3}, {0, 2}), ({1, 3}, {3}), ({0, 1}, {0}), ({1}, None), ({0, 2}, {0, 2}),
])  # fmt: skip
def test_what_loads_meanwhile_leaves_the_whole_core_where_it_can(mine, left, monkeypatch):
    """Core 1 is measured on; 3 is its other thread."""
    kept = []
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: mine)
    monkeypatch.setattr(os, "sched_setaffinity", lambda _, cores: kept.append(cores))
    keep_off(Place(1, (3,)))
    assert kept == ([left] if left is not None else [])


def test_a_rehearsal_begins_with_real_and_fast_cores(tmp_path, monkeypatch):
    found = cores(computers.hybrid(tmp_path), frozenset(range(8)))
    monkeypatch.setattr(rehearsal, "cores", lambda: found)
    asked = []
    monkeypatch.setattr(rehearsal.isolation, "run", lambda request, _: asked.append(request.cores) or ())
    of = session(track("t"))
    for count in (1, 3, 7, 8):
        here = survey(of, Plan(), {}, Machine(count), 256)
        assert list(rehearsal.run(here, instant(here), 1.0)) == []
    assert asked == [(2,), (2, 0, 7), (2, 0, 7, 6, 5, 4, 3), (2, 0, 7, 6, 5, 4, 3, 1)]
