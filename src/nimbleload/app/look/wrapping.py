"""A row of widgets that goes on in the next line where there is no more room, as words do."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget


class Wrapping(QLayout):
    """Lays its items out from left to right, or from the right end with `at_end`, each as wide as it wants to be.

    What is hidden takes no room. Its least width is that of its widest item.
    """

    def __init__(self, *widgets: QWidget, at_end: bool = False, gap: int = 6) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._at_end, self._gap = at_end, gap
        self.setContentsMargins(0, 0, 0, 0)
        for widget in widgets:
            self.addWidget(widget)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:  # type: ignore[override]
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:  # type: ignore[override]
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        lines = self._lines(width)
        return sum(_height(line) for line in lines) + self._gap * max(len(lines) - 1, 0)

    def sizeHint(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        width = sum(size.width() for size in shown) + self._gap * max(len(shown) - 1, 0)
        return QSize(width, max((size.height() for size in shown), default=0))

    def minimumSize(self) -> QSize:
        shown = [item.minimumSize() for item in self._items if not item.isEmpty()]
        return QSize(max((s.width() for s in shown), default=0), max((s.height() for s in shown), default=0))

    def setGeometry(self, within: QRect) -> None:
        super().setGeometry(within)
        top = within.top()
        for line in self._lines(within.width()):
            height, left = _height(line), within.left()
            if self._at_end:
                left += max(within.width() - self._width(line), 0)
            for item in line:
                size = item.sizeHint().boundedTo(QSize(within.width(), height))
                item.setGeometry(QRect(QPoint(left, top + (height - size.height()) // 2), size))
                left += size.width() + self._gap
            top += height + self._gap

    def _width(self, line: list[QLayoutItem]) -> int:
        return sum(item.sizeHint().width() for item in line) + self._gap * (len(line) - 1)

    def _lines(self, width: int) -> list[list[QLayoutItem]]:
        """The items that are shown, line by line."""
        lines: list[list[QLayoutItem]] = []
        for item in self._items:
            if item.isEmpty():
                continue
            if lines and self._width([*lines[-1], item]) <= width:
                lines[-1].append(item)
            else:
                lines.append([item])
        return lines


def _height(line: list[QLayoutItem]) -> int:
    return max(item.sizeHint().height() for item in line)
