"""All that was seen since watching began, in one strip: how full blocks were, when they were late, when one was heard.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from ...core.told.dropouts import Line
from ...core.units import clock, count, duration, percent
from ...core.watching.dropouts import Dropout
from ...core.watching.history import Past
from ..look.theme import theme
from ..look.walking import Piece, WalkedPicture

# A dropout is pointed at from so many pixels beside it; a bar is so wide at least; loads beyond this end there.
NEAR, BAR, TOP = 6, 2, 1.25
SECOND = 1_000_000_000


class PastView(WalkedPicture):
    """`chosen` brings the place among the dropouts of one that was pressed, −1 for none."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("All that was seen since watching began", parent)
        self._past: Past | None = None
        self._lines: Sequence[Line] = ()
        self._at: int | None = None
        self._is_running = False
        self._last: tuple[int, int] | None = None

    def show_past(self, past: Past | None, lines: Sequence[Line], at: int | None, is_running: bool) -> None:
        """Shows it with a line for each dropout; that at the place `at` is marked. `is_running` says whether it goes
        on."""
        last = (past.number, past.dropouts[-1].time) if past is not None and past.number else None
        is_new, self._last = last != self._last or self._past is None, last
        self._past, self._lines, self._at, self._is_running = past, lines, at, is_running
        if past is not None and is_new:
            self.describe(f"{count(past.number, 'dropout')} in {duration(past.played)} of playing")
        self.changed()

    def figures(self) -> list[list[str]]:
        past = self._past
        if past is None:
            return []
        rows = zip(past.second.tolist(), past.fullest.tolist(), past.late.tolist(), strict=True)
        return [
            ["second", "fullest block", "late"],
            *([f"{(at - past.begun) / 1e9:.0f}", f"{full:.4f}", str(late)] for at, full, late in rows),
        ]

    def sizeHint(self) -> QSize:
        return QSize(900, theme.px(84))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(260), theme.px(62))

    def _plot(self) -> QRectF:
        return QRectF(theme.px(50), theme.px(10), self.width() - theme.px(60), self.height() - theme.px(30))

    def _span(self) -> tuple[int, int]:
        """What the picture covers (ns): not all of what was seen if that is longer than what is kept."""
        assert self._past is not None
        first = int(self._past.second[0]) if len(self._past.second) else self._past.begun
        return first, max(self._past.ended, first + 10 * SECOND)

    def _x(self, time: float) -> float:
        plot, (first, last) = self._plot(), self._span()
        return plot.left() + plot.width() * (time - first) / (last - first)

    def pieces(self) -> list[Piece]:
        if self._past is None:
            return []
        plot = self._plot()
        return [
            Piece(0, QRectF(self._x(each.time) - 3, plot.top() - 4, 6, plot.height() + 4))
            for each in self._past.dropouts
        ]

    def words_of(self, piece: int) -> str:
        return self._lines[piece].whole if piece < len(self._lines) else ""

    def take(self, piece: int) -> None:
        self.chosen.emit(piece)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._past is not None:
            found = self._near(event.position())
            self.chosen.emit(-1 if found is None else found)
        super().mousePressEvent(event)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent) and self._past is not None:
            QToolTip.showText(event.globalPos(), self._told_at(QPointF(event.pos())), self)
            return True
        return super().event(event)

    def _near(self, point: QPointF) -> int | None:
        """The place of the dropout that lies nearest, if one is near."""
        assert self._past is not None
        apart = {k: abs(self._x(each.time) - point.x()) for k, each in enumerate(self._past.dropouts)}
        found = min(apart, key=lambda k: apart[k], default=None)
        return found if found is not None and apart[found] <= theme.px(NEAR) else None

    def _told_at(self, point: QPointF) -> str:
        found = self._near(point)
        if found is not None:
            return self.words_of(found)
        past, plot, (first, last) = self._past, self._plot(), self._span()
        assert past is not None
        time = first + (point.x() - plot.left()) / max(plot.width(), 1) * (last - first)
        at = int(np.searchsorted(past.second, time, "right")) - 1
        if at < 0 or not plot.contains(point) or time > past.second[at] + SECOND:
            return ""
        return f"{clock((time - past.begun) / 1e9)}: the fullest block {percent(float(past.fullest[at]))}"

    def paintEvent(self, event: QPaintEvent) -> None:
        past = self._past
        if past is None:
            return
        painter, plot = self.pen(), self._plot()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRect(plot)
        self._paint_bars(painter, past, plot)
        due = plot.bottom() - plot.height() / TOP
        painter.setPen(QPen(theme.colour("text"), 1.2))
        painter.drawLine(QPointF(plot.left(), due), QPointF(plot.right(), due))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, due - theme.px(8), plot.left() - theme.px(6), theme.px(16)), right, percent(1.0))
        for place, each in enumerate(past.dropouts):
            self._mark(painter, each, plot, place == self._at)
        for mark in past.marks:
            self._paint_heard(painter, self._x(mark.time), plot)
        self._paint_times(painter, past, plot)
        self.paint_walked(painter)

    def _paint_bars(self, painter: QPainter, past: Past, plot: QRectF) -> None:
        """The fullest block of each stretch that is a bar wide."""
        first, last = self._span()
        bars = max(min(int(plot.width() / BAR), (last - first) // SECOND), 1)
        highest = self.highest(past, bars)
        width, heights = plot.width() / bars, plot.height() * np.minimum(highest / TOP, 1.0)
        painter.setPen(Qt.PenStyle.NoPen)
        for is_late, name in ((False, "teal"), (True, "brick")):
            painter.setBrush(theme.colour(name))
            painter.drawRects([
                QRectF(plot.left() + k * width, plot.bottom() - heights[k], max(width - 0.5, 0.5), heights[k])
                for k in np.flatnonzero(((highest > 1) == is_late) & (highest > 0)).tolist()
            ])  # fmt: skip

    def highest(self, past: Past, bars: int) -> NDArray[np.float64]:
        """How full the fullest block was in each of so many bars; 0 where nothing was played."""
        first, last = self._span()
        found = np.zeros(bars)
        at = np.clip(((past.second - first) / (last - first) * bars).astype(np.int64), 0, bars - 1)
        np.maximum.at(found, at, past.fullest)
        return found

    def _mark(self, painter: QPainter, of: Dropout, plot: QRectF, is_chosen: bool) -> None:
        """A line through the strip with a dot on top; a ring if no block was late."""
        x, radius = self._x(of.time), theme.px(5 if is_chosen else 3)
        colour = theme.colour("brass" if is_chosen else "brick")
        painter.setPen(QPen(colour, 2 if is_chosen else 1))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        painter.setBrush(colour if of.blocks else theme.colour("ground"))
        painter.drawEllipse(QPointF(x, plot.top()), radius, radius)

    def _paint_heard(self, painter: QPainter, x: float, plot: QRectF) -> None:
        """A wedge from below where somebody heard one."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("text"))
        half, height = theme.px(4), theme.px(8)
        corners = [
            QPointF(x - half, plot.bottom()), QPointF(x + half, plot.bottom()), QPointF(x, plot.bottom() - height)
        ]  # fmt: skip
        painter.drawPolygon(corners)

    def _paint_times(self, painter: QPainter, past: Past, plot: QRectF) -> None:
        first, last = self._span()
        painter.setPen(theme.colour("quiet"))
        line = QRectF(plot.left(), plot.bottom() + theme.px(2), plot.width(), theme.px(16))
        whole = duration((last - first) / 1e9)
        ago = f"{whole} ago" if self._is_running else f"{whole} before"
        heard = "; wedges below: you heard one" if past.marks else ""
        dots = f"dots: dropouts{heard}" if past.number else f"no dropout so far{heard}"
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft, ago)
        painter.drawText(line, Qt.AlignmentFlag.AlignRight, "now" if self._is_running else "the end")
        painter.drawText(line, Qt.AlignmentFlag.AlignHCenter, f"The fullest block of each moment; {dots}")
