"""The shelf: chains that are kept for other sessions, to be taken into the chosen track's chain."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QDialogButtonBox,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.session.plugins import PluginUse
from ...store import shelf
from ..look.panels import Dialog
from ..look.theme import theme
from ..look.words import Words
from .ask import Question


def ask_keep(parent: QWidget, uses: list[PluginUse], told: Callable[[str], object]) -> None:
    """Asks under which name a chain is to be kept; `told` is called with what became of it."""
    name = QLineEdit(" → ".join(use.label for use in uses)[: shelf.LONGEST_NAME])
    name.selectAll()

    def keep() -> None:
        try:
            shelf.keep(name.text(), uses)
            told(f"{name.text().strip()} is on the shelf, for this and other sessions.")
        except shelf.ShelfError as error:
            told(str(error))

    Question("Keep on the shelf", parent, keep, name=name).open()


class ShelfDialog(Dialog):
    """What is on the shelf. `taken` brings plugins and the name that they are kept under."""

    taken = Signal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("From the shelf", parent)
        self.resize(theme.px(460), theme.px(320))
        self.words, self.rows = Words(), QListWidget()
        self.words.setWordWrap(True)
        self.rows.setAccessibleName("Chains on the shelf")
        kinds = QDialogButtonBox.StandardButton
        self.buttons = QDialogButtonBox(kinds.Ok | kinds.Close)
        self.take = self.buttons.button(kinds.Ok)
        self.take.setText("Put it in")
        self.take.setDefault(True)
        self.away = self.buttons.addButton("Off the shelf", QDialogButtonBox.ButtonRole.DestructiveRole)
        column = QVBoxLayout(self)
        for part in (self.words, self.rows, self.buttons):
            column.addWidget(part, 1 if part is self.rows else 0)
        self.buttons.accepted.connect(self._take)
        self.buttons.rejected.connect(self.reject)
        self.rows.itemActivated.connect(self._take)
        self.away.clicked.connect(self._drop)
        self.rows.installEventFilter(self)
        self._fill()

    def _fill(self) -> None:
        self.rows.clear()
        for name in shelf.names():
            item = QListWidgetItem(name)
            item.setData(Qt.ItemDataRole.UserRole, name)
            try:
                item.setToolTip(" → ".join(use.label for use in shelf.take(name)))
            except shelf.ShelfError as error:
                item.setToolTip(str(error))
            self.rows.addItem(item)
        some = self.rows.count() > 0
        self.rows.setCurrentRow(0)
        self.take.setEnabled(some)
        self.away.setEnabled(some)
        self.words.setText(
            "The plugins of a chain go to the end of the chosen track's."
            if some
            else "Nothing is kept yet: choose plugins or a track, and keep its chain."
        )

    def eventFilter(self, of: QObject, event: QEvent) -> bool:
        # The list would look for a row that begins with it.
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Delete:
            self._drop()
            return True
        return super().eventFilter(of, event)

    def _name(self) -> str:
        item = self.rows.currentItem()
        return item.data(Qt.ItemDataRole.UserRole) if item is not None else ""

    def _take(self) -> None:
        if not self._name():
            return
        try:
            found = shelf.take(self._name())
        except shelf.ShelfError as error:
            self.words.setText(str(error))
            return
        self.taken.emit(found, self._name())
        self.accept()

    def _drop(self) -> None:
        try:
            if self._name():
                shelf.drop(self._name())
        except shelf.ShelfError as error:
            self.words.setText(str(error))
            return
        self._fill()
