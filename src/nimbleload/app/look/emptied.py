"""A menu that stays for good and is filled again each time."""

from __future__ import annotations

from PySide6.QtWidgets import QMenu


def emptied(menu: QMenu) -> QMenu:
    """The menu without what it holds: its own commands are gone, those of other menus are there still.

    Where a menu is deleted, one that has opened meanwhile closes; and `clear` takes those of others for its own.
    """
    for action in menu.actions():
        menu.removeAction(action)
        if action.parent() is menu:
            action.deleteLater()
    return menu
