"""Keys that do something while what has the focus lies in a part of a window."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QWidget


def on_key(part: QWidget, key: Qt.Key | QKeySequence.StandardKey | str, what: Callable[[], object]) -> None:
    """Has something done when a key is pressed in a part of a window, or in what lies in it."""
    shortcut = QShortcut(QKeySequence(key), part)
    shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
    shortcut.activated.connect(what)
