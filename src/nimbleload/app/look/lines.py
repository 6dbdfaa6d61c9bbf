"""Rows of a list whose words go on in a second line where one is too short."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QSize, Qt
from PySide6.QtGui import QFont, QFontMetrics, QPainter, QPalette, QTextLayout
from PySide6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

Index = QModelIndex | QPersistentModelIndex
MARGIN = 3


def broken(text: str, font: QFont, width: int, most: int) -> list[str]:
    """Words in lines that are no wider than `width` (pixels), at most so many; what is left over ends in an ellipsis.
    """
    layout = QTextLayout(text, font)
    layout.beginLayout()
    starts: list[int] = []
    while len(starts) < most and (line := layout.createLine()).isValid():
        line.setLineWidth(width)
        starts.append(line.textStart())
    layout.endLayout()
    lines = [text[start:end].strip() for start, end in zip(starts, [*starts[1:], len(text)], strict=True)]
    if lines:
        lines[-1] = QFontMetrics(font).elidedText(lines[-1], Qt.TextElideMode.ElideRight, width)
    return lines


class Lines(QStyledItemDelegate):
    """Paints each row of a list in as many lines as it needs, `most` at most, while all rows can then be seen; where
    there is no room for that, one line each, so that as many rows as possible are seen. Above and below stays so much
    `room` (pixels)."""

    def __init__(self, view: QListView, most: int = 2, room: int = MARGIN) -> None:
        super().__init__(view)
        self._view, self._most, self._room = view, most, room
        self._measured: tuple[tuple, bool] = ((), False)
        view.setItemDelegate(self)
        view.setResizeMode(QListView.ResizeMode.Adjust)
        view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def lines(self, index: Index, font: QFont) -> list[str]:
        """The lines in which a row is shown."""
        return self._broken(index, font, self._most if self._all_fit(font) else 1)

    def _broken(self, index: Index, font: QFont, most: int) -> list[str]:
        return broken(str(index.data() or ""), font, self._view.viewport().width() - 2 * MARGIN, most)

    def _all_fit(self, font: QFont) -> bool:
        """Whether all rows are seen at once with as many lines as they need."""
        model, line = self._view.model(), QFontMetrics(font).lineSpacing()
        rows, room = model.rowCount(), self._view.viewport().height()
        # Few enough for their words to be measured.
        if rows * (line + 2 * self._room) > room:
            return False
        indexes = [model.index(row, 0) for row in range(rows)]
        # Asked of every row that is painted: measured when words, font or room are others.
        asked = (font.key(), self._view.viewport().size().toTuple(), *(index.data() for index in indexes))
        if self._measured[0] != asked:
            counts = (max(len(self._broken(index, font, self._most)), 1) for index in indexes)
            self._measured = asked, sum(count * line + 2 * self._room for count in counts) <= room
        return self._measured[1]

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        self.initStyleOption(option, index)
        count = max(len(self.lines(index, option.font)), 1)
        return QSize(self._view.viewport().width(), count * option.fontMetrics.lineSpacing() + 2 * self._room)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        self.initStyleOption(option, index)
        font, words = option.font, self.lines(index, option.font)
        option.text = ""
        self._view.style().drawControl(QStyle.ControlElement.CE_ItemViewItem, option, painter, self._view)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.save()
        painter.setFont(font)
        role = QPalette.ColorRole.HighlightedText if chosen else QPalette.ColorRole.Text
        painter.setPen(option.palette.color(role))
        place = option.rect.adjusted(MARGIN, self._room, -MARGIN, -self._room)
        painter.drawText(place, Qt.AlignmentFlag.AlignTop, "\n".join(words))
        painter.restore()
