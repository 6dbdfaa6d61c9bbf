"""Every block of a rehearsal as a bar against its deadline."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ...core.units import count, percent
from .beside_lines import beside_lines
from .lines import broken
from .picture import Picture
from .theme import theme

# Up to so many deadlines a bar is seen whole, however seldom it is.
SEEN_AT_LEAST = 2.0


class DeadlineView(Picture):
    """The load of each block in order; where there are more blocks than pixels, the worst of each few."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Blocks against their deadlines", parent)
        self._loads = np.zeros(0)
        self._typical, self._dashed = 0.0, ""
        self._xruns: tuple[int, ...] = ()
        self._behind, self._behind_words = np.zeros(0), ""

    def show_loads(
        self, loads: Sequence[float], typical: float, dashed: str = "predicted as typical", xruns: Sequence[int] = ()
    ) -> None:
        """The loads in order (fractions), and one as a line, with what it is; `xruns` are the places of blocks that a
        sound server gave up."""
        self._loads, self._typical, self._dashed, self._xruns = np.array(loads), typical, dashed, tuple(xruns)
        if len(self._loads):
            words = f"{count(len(self._loads), 'block')}, {int((self._loads > 1).sum())} longer than the deadline"
            self.describe(f"{words}; {count(len(self._xruns), 'xrun')}" if self._xruns else words)
        self.show_behind((), "")
        self.setVisible(len(self._loads) > 0)

    def show_behind(self, loads: Sequence[float], words: str) -> None:
        """Other blocks behind these, with what they are; none where there are none."""
        self._behind, self._behind_words = np.array(loads), words
        self.changed()

    def figures(self) -> list[list[str]]:
        told = Counter(self._xruns)
        rows = ([str(k + 1), f"{load:.4f}", str(told[k])] for k, load in enumerate(self._loads.tolist()))
        found = [["block", "load", "xruns"], *rows]
        if len(self._behind):
            found.append(["block", f"load {self._behind_words}"])
            found += [[str(k + 1), f"{load:.4f}"] for k, load in enumerate(self._behind.tolist())]
        return found

    def sizeHint(self) -> QSize:
        return QSize(900, theme.px(190))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(300), theme.px(110))

    def paintEvent(self, event: QPaintEvent) -> None:
        if not len(self._loads):
            return
        painter = self.pen()
        wide = self.width() - theme.px(60)
        bars = min(len(self._loads), max(int(wide / 2), 1))
        legend, high = broken(self.legend(bars), painter.font(), wide, 2), painter.fontMetrics().height()
        below = theme.px(28) + high * (len(legend) - 1)
        plot = QRectF(theme.px(50), theme.px(8), wide, self.height() - below)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRect(plot)
        top = self.top()
        highest = highest_of(self._loads, bars)
        if len(self._behind):
            self._paint_behind(painter, plot, top)
        width, heights = plot.width() / bars, plot.height() * np.minimum(highest / top, 1.0)
        for late, name in ((False, "teal"), (True, "brick")):
            painter.setBrush(theme.colour(name))
            painter.drawRects([
                QRectF(plot.left() + k * width, plot.bottom() - heights[k], max(width - 0.5, 0.5), heights[k])
                for k in np.flatnonzero((highest > 1) == late).tolist()
            ])  # fmt: skip
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        lines = ((1.0, "text", Qt.PenStyle.SolidLine), (self._typical, "brass", Qt.PenStyle.DashLine))
        at = {load: plot.bottom() - plot.height() * min(load, top) / top for load, _, _ in lines}
        places = beside_lines(at, plot.left() - theme.px(6), theme.px(14))
        for load, name, style in lines:
            painter.setPen(QPen(theme.colour(name), 1.4, style))
            painter.drawLine(QPointF(plot.left(), at[load]), QPointF(plot.right(), at[load]))
            painter.drawText(places[load], right, percent(load))
        self._mark_xruns(painter, plot)
        painter.setPen(theme.colour("quiet"))
        for k, line in enumerate(reversed(legend)):
            painter.drawText(QPointF(plot.left(), self.height() - theme.px(6) - k * high), line)

    def top(self) -> float:
        """The load at the upper edge. What is far beyond all the rest ends there: it would leave no room for that."""
        both = np.concatenate((self._loads, self._behind))
        usual = max(SEEN_AT_LEAST, 1.5 * float(np.quantile(both, 0.99)))
        return max(1.15, min(1.05 * float(both.max()), usual))

    def _paint_behind(self, painter: QPainter, plot: QRectF, top: float) -> None:
        """The other blocks, as many as there are over the same width."""
        bars = min(len(self._behind), max(int(plot.width() / 2), 1))
        width = plot.width() / bars
        painter.setBrush(theme.colour("before"))
        painter.drawRects([
            QRectF(plot.left() + k * width, plot.bottom() - height, width, height)
            for k, height in enumerate((plot.height() * np.minimum(highest_of(self._behind, bars) / top, 1.0)).tolist())
        ])  # fmt: skip

    def legend(self, bars: int) -> str:
        """What so many bars show, and what the lines are."""
        blocks = len(self._loads)
        each = f", each bar the fullest of up to {-(-blocks // bars)}" if bars < blocks else ""
        xruns = "; wedges: xruns" if self._xruns else ""
        behind = f"; behind: {self._behind_words}" if len(self._behind) else ""
        return f"{count(blocks, 'block')}{each}; solid line: the deadline; dashed: {self._dashed}{behind}{xruns}"

    def _mark_xruns(self, painter: QPainter, plot: QRectF) -> None:
        """A wedge from above over each block that was given up, in a colour of its own: the server's word, not ours."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("text"))
        half, height = theme.px(4), theme.px(9)
        for place in sorted(set(self._xruns)):
            x = plot.left() + plot.width() * (place + 0.5) / len(self._loads)
            corners = [QPointF(x - half, plot.top()), QPointF(x + half, plot.top()), QPointF(x, plot.top() + height)]
            painter.drawPolygon(corners)


def highest_of(loads: NDArray[np.float64], bars: int) -> NDArray[np.float64]:
    """The highest load of each of so many groups of blocks, as equal in size as can be (bars)."""
    sizes = np.full(bars, len(loads) // bars)
    sizes[: len(loads) % bars] += 1
    return np.asarray(np.maximum.reduceat(loads, np.cumsum(sizes) - sizes))
