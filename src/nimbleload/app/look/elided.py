"""A line of words that makes do with the room there is."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel

from .theme import theme


class Elided(QLabel):
    """A line that is shortened where there is no room for it; pointing at it shows all of it."""

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(60), super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        shown = QFontMetrics(self.font()).elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        self.setToolTip(self.text() if shown != self.text() else "")
        painter = QPainter(self)
        painter.setPen(self.palette().windowText().color())
        painter.drawText(self.rect(), int(self.alignment()), shown)
