"""Panes that are shown in turns: each gets its turn, once, and in order."""

from __future__ import annotations

from PySide6.QtCore import QObject

from nimbleload.app.background.turns import Turns


def test_each_comes_once_and_in_order_however_often_it_is_asked_for(qtbot):
    came: list[str] = []
    above = QObject()
    turns = Turns(above)

    def one():
        came.append("one")

    def two():
        came.append("two")

    turns.take(one, two)
    turns.take(one, two)
    assert not came and not turns.is_through  # never in the turn that asks
    qtbot.waitUntil(lambda: turns.is_through)
    assert came == ["one", "two"]


def test_nothing_starves_while_it_is_asked_again_and_again(qtbot):
    came: list[int] = []
    above = QObject()
    turns = Turns(above)
    calls = [lambda k=k: came.append(k) for k in range(3)]
    for _ in range(40):
        turns.take(*calls)
        qtbot.wait(3)
    assert {0, 1, 2} == set(came) and max(came.count(k) for k in range(3)) - min(came.count(k) for k in range(3)) <= 1


def test_what_fails_does_not_hold_up_the_rest(qtbot):
    came: list[str] = []
    above = QObject()
    turns = Turns(above)

    def broken():
        raise ZeroDivisionError("by mistake")

    with qtbot.captureExceptions() as caught:
        turns.take(broken, lambda: came.append("after"))
        qtbot.waitUntil(lambda: came == ["after"])
    assert caught[0][0] is ZeroDivisionError
