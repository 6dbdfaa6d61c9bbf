"""The search for garbage among everything waits for a moment in which nobody does anything, but not for ever."""

from __future__ import annotations

import gc

import pytest
from PySide6.QtCore import QObject

from nimbleload.app.background import rests
from nimbleload.app.background.rests import DUE, IN_VAIN, Rests


@pytest.fixture
def looked(qtbot, monkeypatch):
    """Rests of a window that is busy or not, as `state` says; and how often everything was searched."""
    state, found, above = {"idle": True, "young": DUE}, [], QObject()
    monkeypatch.setattr(rests.gc, "collect", lambda: found.append(1))
    monkeypatch.setattr(rests.gc, "get_count", lambda: (0, 0, state["young"]))
    of = Rests(lambda: state["idle"], above)
    yield of, state, found
    of.end()


def test_it_is_made_when_it_is_due_and_nobody_does_anything(looked):
    of, state, found = looked
    of.look()
    assert len(found) == 1
    state["young"] = DUE - 1
    of.look()
    assert len(found) == 1


def test_a_busy_window_is_left_alone_for_so_long_and_no_longer(looked):
    of, state, found = looked
    state["idle"] = False
    for _ in range(IN_VAIN):
        of.look()
    assert not found
    of.look()
    assert len(found) == 1
    of.look()
    assert len(found) == 1


def test_it_never_comes_by_itself_until_the_end(qtbot):
    before, above = gc.get_threshold(), QObject()
    of = Rests(lambda: True, above)
    assert gc.get_threshold() == (*before[:2], rests.NEVER)
    of.end()
    assert gc.get_threshold() == before
