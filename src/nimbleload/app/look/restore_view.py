"""The restore list to tick off: in its dialog, and on the page on which the plan is carried out."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QListWidget, QListWidgetItem, QWidget


class RestoreView(QListWidget):
    """What to put back before the final render, line by line, none of them cut. `ticked` brings the lines that are
    done."""

    ticked = Signal(list)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("What to put back before the final render")
        self.setWordWrap(True)
        self.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.itemChanged.connect(lambda _: self.ticked.emit(self.lines_done()))

    def show_lines(self, lines: Sequence[str], done: Sequence[str]) -> None:
        """Shows these lines, those that are done ticked."""
        self.blockSignals(True)
        self.clear()
        for line in lines:
            item = QListWidgetItem(line)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if line in done else Qt.CheckState.Unchecked)
            self.addItem(item)
        self.blockSignals(False)

    def lines_done(self) -> list[str]:
        """The lines that are ticked."""
        items = (self.item(k) for k in range(self.count()))
        return [item.text() for item in items if item.checkState() == Qt.CheckState.Checked]
