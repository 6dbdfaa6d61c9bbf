"""The dropouts of a watched host, the newest first: when, how large, why, and what else was at work."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QItemSelection, Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from ...core.told.dropouts import Line
from ..look.panels import dress_table, size_table

HEADINGS = ("When", "What", "Why", "Meanwhile")
# So many are shown, the newest.
MOST = 200


class DropoutTable(QTableWidget):
    """`chosen` brings the place among all dropouts of the one that is chosen, −1 for none."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(0, len(HEADINGS), parent)
        dress_table(self, HEADINGS, "Dropouts, the newest first", Qt.AlignmentFlag.AlignLeft)
        self.setSelectionMode(QTableWidget.SelectionMode.SingleSelection)
        self.setShowGrid(False)
        size_table(self, 22)
        header = self.horizontalHeader()
        header.setHighlightSections(False)
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self._shown: tuple[Line, ...] = ()
        self._first = 0

    def show_lines(self, lines: Sequence[Line], at: int | None) -> None:
        """Shows a line for each; the one at the place `at` is chosen."""
        found = tuple(lines[-MOST:])
        self._first = len(lines) - len(found)
        if found != self._shown:
            self._shown = found
            self.blockSignals(True)
            self.setRowCount(len(found))
            for row, each in enumerate(reversed(found)):
                for column, text in enumerate(each):
                    item = QTableWidgetItem(text)
                    item.setToolTip(text if column > 1 else "")
                    self.setItem(row, column, item)
            self.blockSignals(False)
            self._share_width()
        row = len(found) - 1 - (at - self._first) if at is not None and at >= self._first else -1
        if row != self._row():
            self.blockSignals(True)
            self.clearSelection() if row < 0 else self.selectRow(row)
            self.blockSignals(False)

    def _share_width(self) -> None:
        """What was at work has the width that it needs, but no more than half of what both have with the reason."""
        header, fit = self.horizontalHeader(), QHeaderView.ResizeMode.ResizeToContents
        both = self.viewport().width() - header.sectionSize(0) - header.sectionSize(1)
        mode = QHeaderView.ResizeMode.Stretch if 2 * self.sizeHintForColumn(3) > both else fit
        if mode != header.sectionResizeMode(3):
            header.setSectionResizeMode(3, mode)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._share_width()

    def _row(self) -> int:
        rows = self.selectionModel().selectedRows()
        return rows[0].row() if rows else -1

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        super().selectionChanged(selected, deselected)
        if not self.signalsBlocked():
            row = self._row()
            self.chosen.emit(-1 if row < 0 else self._first + len(self._shown) - 1 - row)
