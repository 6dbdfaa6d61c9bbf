"""What pages are laid out with: the sentence on top, panels below it, and tables of figures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QFrame,
    QMessageBox,
    QTableView,
    QTableWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from .sentence import Sentence
from .theme import theme


def panel() -> tuple[QFrame, QVBoxLayout]:
    """A panel, and the column in it."""
    frame = QFrame()
    frame.setProperty("role", "panel")
    inside = QVBoxLayout(frame)
    inside.setContentsMargins(10, 8, 10, 8)
    return frame, inside


class Dialog(QDialog):
    """A dialog that is gone once it is closed: hundreds of them would have to be styled anew with each change of the
    theme or of the text size. What works for it in another thread must hear when it is `finished`."""

    def __init__(self, title: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(title)

    def open(self) -> None:
        """Opens it, in place of the same that is still open: what has to be computed first is soon asked for twice."""
        parent = self.parent()
        for other in parent.findChildren(type(self)) if parent is not None else ():
            if other is not self and other.isVisible() and other.windowTitle() == self.windowTitle():
                other.close()
        super().open()


class Message(QMessageBox):
    """A box with a message that is gone once it is closed, as a `Dialog` is."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setTextFormat(Qt.TextFormat.PlainText)


def headed(page: QWidget, sentence: Sentence) -> QVBoxLayout:
    """Lays a page out: its sentence on top; the column takes what comes below."""
    column = QVBoxLayout(page)
    column.setContentsMargins(8, 2, 8, 8)
    column.setSpacing(7)
    column.addWidget(sentence)
    return column


def dress_table(table: QTableWidget, headings: Sequence[str], name: str, align: Qt.AlignmentFlag) -> None:
    """A table to read and to choose rows of; its headings are aligned so, `name` is what it is read out as."""
    table.setHorizontalHeaderLabels(headings)
    table.verticalHeader().setVisible(False)
    table.horizontalHeader().setDefaultAlignment(align | Qt.AlignmentFlag.AlignVCenter)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setAccessibleName(name)


def size_table(table: QTableView, row: int, widths: Mapping[int, int] | None = None) -> None:
    """Rows so high, and columns (by number) so wide, in pixels at 100 %: with each text size anew."""

    def give(of: QTableView) -> None:
        of.verticalHeader().setDefaultSectionSize(theme.px(row))
        for column, width in (widths or {}).items():
            of.setColumnWidth(column, theme.px(width))

    theme.fit(table, give)
