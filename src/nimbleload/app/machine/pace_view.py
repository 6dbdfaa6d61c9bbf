"""How long the same work takes from minute to minute, against at first."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from ...core.computer.lasting import Lasting
from ...core.told.lasting import lasting_words
from ...core.units import clock
from ..look.picture import Picture
from ..look.theme import theme

COLUMNS = ("until (s)", "times as long", "clock (GHz)", "slowed for heat", "late", "blocks")
# The picture shows at least so many seconds, and so many times as long.
SECONDS, TIMES = 300.0, 1.5


class PaceView(Picture):
    """A line over time: flat where a computer keeps its pace, rising where it does not."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("How long it keeps its pace", parent)
        self._of: Lasting | None = None

    def show_pace(self, of: Lasting) -> None:
        self._of = of
        self.describe(lasting_words(of))
        self.update()

    def figures(self) -> list[list[str]]:
        of = self._of
        rows = [
            [f"{each.until:.0f}", f"{times:.3f}", f"{each.clock / 1e9:.2f}" if each.clock else "", str(each.hot),
             str(each.late), str(each.blocks)]
            for each, times in zip(of.stretches, of.times, strict=True)
        ] if of is not None else []  # fmt: skip
        return [list(COLUMNS), *rows]

    def sizeHint(self) -> QSize:
        return QSize(theme.px(380), theme.px(120))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(240), theme.px(110))

    def paintEvent(self, event: QPaintEvent) -> None:
        of = self._of
        if of is None or not of.stretches:
            return
        painter = self.pen()
        plot = QRectF(theme.px(48), theme.px(10), self.width() - theme.px(58), self.height() - theme.px(36))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRect(plot)
        paces = of.times
        top, end = max(TIMES, *(1.1 * each for each in paces)), max(SECONDS, of.seconds)
        # A line each quarter, or each whole, with room for its words.
        step = next(each for each in (0.25, 0.5, 1.0, 2.0, 5.0, top) if (top - 1) / each <= 4)

        def at(seconds: float, times: float) -> QPointF:
            up = plot.height() * (times - 1 + 0.1 * (top - 1)) / (1.1 * (top - 1))
            return QPointF(plot.left() + plot.width() * seconds / end, plot.bottom() - up)

        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for k in range(int((top - 1) / step) + 1):
            times, y = 1 + k * step, at(0, 1 + k * step).y()
            painter.setPen(QPen(theme.colour("text" if k == 0 else "line"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(theme.colour("quiet"))
            words = QRectF(0, y - theme.px(7), plot.left() - theme.px(6), theme.px(14))
            painter.drawText(words, right, f"{times:.2f} ×" if step < 1 else f"{times:.0f} ×")
        painter.setPen(QPen(theme.colour("brass"), 2))
        points = [at(0, paces[0]), *(at(s.until, p) for s, p in zip(of.stretches, paces, strict=True))]
        painter.drawPolyline(QPolygonF(points))
        painter.setPen(theme.colour("quiet"))
        below = QRectF(plot.left(), plot.bottom() + theme.px(4), plot.width(), theme.px(15))
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, "0:00")
        painter.drawText(below, Qt.AlignmentFlag.AlignRight, clock(end))
        painter.drawText(below, Qt.AlignmentFlag.AlignHCenter, "the same work, times as long as at first")
