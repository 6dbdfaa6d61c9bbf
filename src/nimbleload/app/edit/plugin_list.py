"""The plugins that can be put into a chain: those installed here and the house's own, to search and to drag from."""

from __future__ import annotations

import json
import logging
import threading
from collections.abc import Sequence

from PySide6.QtCore import QMimeData, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QAbstractItemView, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ...core.session.plugins import PluginUse
from ...core.units import told_by
from ...probe import catalogue
from ...probe.choosing import choices, matching
from ..background.to_window_thread import ToWindowThread
from ..look.lines import Lines
from ..look.theme import theme
from ..look.words import Words
from .strip_view import NEW

log = logging.getLogger(__name__)
MOST_SHOWN = 500


class Listing(QListWidget):
    """Rows carry their number among all plugins; they can be dragged, and Enter asks for one."""

    wanted = Signal(int)

    def mimeTypes(self) -> list[str]:
        return [NEW]

    def mimeData(self, items: Sequence[QListWidgetItem]) -> QMimeData:
        carried = QMimeData()
        carried.setData(NEW, json.dumps([items[0].data(Qt.ItemDataRole.UserRole)]).encode())
        return carried

    def keyPressEvent(self, event: QKeyEvent) -> None:
        item = self.currentItem()
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and item is not None:
            self.wanted.emit(item.data(Qt.ItemDataRole.UserRole))
            return
        super().keyPressEvent(event)


class PluginList(QWidget):
    """Looks into the search folders in a thread of its own. `wanted` brings a plugin that is to be put in."""

    wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.plugins: list[PluginUse] = []
        self._to_window = ToWindowThread(self)
        self._thread: threading.Thread | None = None
        title = Words("Plugins to put in")
        title.setProperty("role", "title")
        self.words = QLineEdit()
        self.words.setPlaceholderText("Find")
        self.words.setToolTip("Name, maker, standard or family")
        self.words.setAccessibleName("Plugins to look for")
        self.words.setClearButtonEnabled(True)
        self.rows = Listing()
        self.rows.setDragEnabled(True)
        self.rows.setDragDropMode(QAbstractItemView.DragDropMode.DragOnly)
        self.rows.setAccessibleName("Plugins to put in")
        Lines(self.rows, 1, room=0)
        self.count = Words()
        self.count.setProperty("role", "quiet")
        self.count.setWordWrap(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(theme.px(4))
        for part in (title, self.words, self.rows, self.count):
            column.addWidget(part, 1 if part is self.rows else 0)
        self.words.textChanged.connect(self._fill)
        self.words.returnPressed.connect(self._take_first)
        self.rows.wanted.connect(lambda number: self.wanted.emit(self.plugins[number]))
        self.rows.itemDoubleClicked.connect(
            lambda item: self.wanted.emit(self.plugins[item.data(Qt.ItemDataRole.UserRole)])
        )
        self.show_plugins(choices([]))

    def look(self) -> None:
        """Reads the catalogue, unless that was done before."""
        if self._thread is None:
            self.count.setText("Looking into the search folders…")
            self._thread = threading.Thread(target=self._look, daemon=True)
            self._thread.start()

    def _look(self) -> None:
        try:
            self._to_window.post(self.show_plugins, choices(catalogue.catalogue()))
        except Exception as error:
            log.exception("the catalogue could not be read")
            self._to_window.post(self.count.setText, f"The search folders could not be read: {told_by(error)}.")

    def show_plugins(self, found: list[PluginUse]) -> None:
        self.plugins = found
        self._fill()

    def _fill(self) -> None:
        numbers = {id(use): number for number, use in enumerate(self.plugins)}
        fitting = matching(self.plugins, self.words.text().split())
        self.rows.clear()
        for use in fitting[:MOST_SHOWN]:
            item = QListWidgetItem(f"{use.label}   {use.plugin.made_as}")
            item.setData(Qt.ItemDataRole.UserRole, numbers[id(use)])
            whose = f"{use.label}, {use.plugin.made_as}, {use.family}"
            item.setToolTip(f"{whose}\n{use.plugin.vendor}\n{use.plugin.identifier}")
            self.rows.addItem(item)
        more = f"; the first {MOST_SHOWN} are shown" if len(fitting) > MOST_SHOWN else ""
        self.count.setText(f"{len(fitting)} of {len(self.plugins)}{more}. Enter, or drag, puts one in.")

    def _take_first(self) -> None:
        """Enter in the line above goes on to the list."""
        if self.rows.count():
            self.rows.setCurrentRow(max(self.rows.currentRow(), 0))
            self.rows.setFocus()

    def close_down(self) -> None:
        self._to_window.close()
