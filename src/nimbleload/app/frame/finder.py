"""The command finder (Ctrl+K): every command of the menus by its name, found by typing parts of it."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ..look.panels import Dialog
from ..look.theme import theme


class Finder(Dialog):
    """Lists the commands whose names hold every typed word; Enter runs the chosen one."""

    def __init__(self, actions: list[QAction], parent: QWidget | None = None) -> None:
        super().__init__("Find a command", parent)
        self.resize(theme.px(460), theme.px(340))
        self._actions = actions
        self.words = QLineEdit()
        self.words.setPlaceholderText("Type part of a command")
        self.words.setAccessibleName("Find a command")
        self.list = QListWidget()
        self.list.setAccessibleName("Commands")
        column = QVBoxLayout(self)
        column.addWidget(self.words)
        column.addWidget(self.list)
        self.words.textChanged.connect(self._fill)
        self.words.returnPressed.connect(self._run)
        self.list.itemActivated.connect(lambda _: self._run())
        self.words.installEventFilter(self)
        self._fill("")

    def _fill(self, text: str) -> None:
        wanted = text.lower().split()
        self.list.clear()
        for action in self._actions:
            name = action.text().replace("&", "").rstrip("…")
            if action.isEnabled() and all(word in name.lower() for word in wanted):
                item = QListWidgetItem(f"{name}    {action.shortcut().toString()}".rstrip())
                item.setData(Qt.ItemDataRole.UserRole, action)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _run(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self.accept()
            item.data(Qt.ItemDataRole.UserRole).trigger()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The arrow keys move in the list while the typing goes on."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step is not None:
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
        return super().eventFilter(watched, event)
