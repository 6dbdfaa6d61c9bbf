"""What this computer holds at each buffer size: from what was held to what was missed."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ...core.computer.ceiling import Ceiling
from ...core.told.ceiling import ceiling_words
from ...core.units import percent
from ..look.picture import Picture
from ..look.theme import theme

COLUMNS = (
    "buffer", "rate", "threads", "held", "least", "most", "slowed", "slower", "longest", "lost", "seconds",
)  # fmt: skip


class CeilingView(Picture):
    """A bar for each buffer size; the hatched part is what the ceiling may be by chance."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("What this computer holds", parent)
        self._found: list[Ceiling] = []

    def show_ceilings(self, found: Sequence[Ceiling]) -> None:
        self._found = sorted(found, key=lambda each: (each.rate, each.buffer))
        self.describe(" ".join(ceiling_words(each) for each in self._found))
        self.setVisible(bool(self._found))
        self.update()

    def figures(self) -> list[list[str]]:
        return [list(COLUMNS), *([f"{getattr(each, name):g}" for name in COLUMNS] for each in self._found)]

    def sizeHint(self) -> QSize:
        return QSize(theme.px(380), theme.px(210))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(240), theme.px(150))

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._found:
            return
        painter = self.pen()
        plot = QRectF(theme.px(48), theme.px(20), self.width() - theme.px(58), self.height() - theme.px(58))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRect(plot)
        top = 1.1
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        middle = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter
        for load, name in ((1.0, "text"), (0.5, "line")):
            y = plot.bottom() - plot.height() * load / top
            painter.setPen(QPen(theme.colour(name), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(theme.colour("quiet"))
            painter.drawText(QRectF(0, y - theme.px(7), plot.left() - theme.px(6), theme.px(14)), right, percent(load))
        width = plot.width() / len(self._found)
        for place, each in enumerate(self._found):
            column = QRectF(plot.left() + place * width, plot.top(), width, plot.height())
            bar = min(width * 0.5, theme.px(46))
            left = column.center().x() - bar / 2
            held, least, most = (plot.height() * load / top for load in (each.held, each.least, each.most))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("teal"))
            painter.drawRect(QRectF(left, plot.bottom() - held, bar, held))
            painter.setBrush(theme.hatch(theme.colour("text")))
            painter.drawRect(QRectF(left, plot.bottom() - most, bar, most - least))
            words = percent(each.held) if each.held > 0 else "none"
            inside = least > theme.px(20) and painter.fontMetrics().horizontalAdvance(words) < bar
            painter.setPen(QColor("#14110a") if inside else theme.colour("text"))
            above = plot.bottom() - (least - theme.px(3) if inside else most + theme.px(17))
            painter.drawText(QRectF(column.left(), above, width, theme.px(15)), middle, words)
            painter.setPen(theme.colour("quiet"))
            below = QRectF(column.left(), plot.bottom() + theme.px(3), width, theme.px(15))
            painter.drawText(below, middle, str(each.buffer))
        painter.drawText(
            QRectF(theme.px(8), plot.bottom() + theme.px(20), self.width() - theme.px(16), theme.px(15)),
            Qt.AlignmentFlag.AlignHCenter, "samples a block; hatched: by chance",
        )  # fmt: skip
