"""Menus that are filled again: what was theirs is gone, what others hold is there, and none closes another."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QPoint
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu, QWidget

from nimbleload.app.look.emptied import emptied


@pytest.fixture
def place(qtbot):
    widget = QWidget()
    qtbot.addWidget(widget)
    widget.show()
    return widget


def test_its_own_commands_go_and_those_of_others_stay(place):
    bar, menu = QMenu(place), QMenu(place)
    shared = bar.addAction("Shared")
    inside = QMenu("Inside", menu)
    for _ in range(3):
        emptied(menu)
        menu.addAction("Own")
        menu.addActions([shared])
        menu.addMenu(inside)
        assert [action.text() for action in menu.actions()] == ["Own", "Shared", "Inside"]
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert shared.text() == "Shared" and bar.actions() == [shared] and emptied(menu).actions() == []
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert "Own" not in [each.text() for each in menu.findChildren(QAction)]


def test_the_next_menu_stays_open_when_the_one_before_has_closed(place, qtbot):
    before, after = QMenu(place), QMenu(place)
    for menu in (before, after):
        emptied(menu).addAction("Something")
        menu.popup(place.mapToGlobal(QPoint(5, 5)))
        if menu is before:
            menu.close()
    qtbot.wait(50)
    assert after.isVisible()
    after.close()
