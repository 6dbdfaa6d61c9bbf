"""Every block of a rehearsal as a bar against its deadline."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ..core.units import percent
from .picture import Picture
from .theme import theme


class DeadlineView(Picture):
    """The load of each block in order; where there are more blocks than pixels, the worst of each few."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Blocks against their deadlines", parent)
        self._loads = np.zeros(0)
        self._typical, self._dashed = 0.0, ""

    def show_loads(self, loads: Sequence[float], typical: float, dashed: str = "predicted as typical") -> None:
        """The loads in order (fractions), and one as a line, with what it is."""
        self._loads, self._typical, self._dashed = np.array(loads), typical, dashed
        if len(self._loads):
            self.describe(f"{len(self._loads)} blocks, {int((self._loads > 1).sum())} longer than the deadline")
        self.setVisible(len(self._loads) > 0)
        self.update()

    def figures(self) -> list[list[str]]:
        return [["block", "load"], *([str(k), f"{load:.4f}"] for k, load in enumerate(self._loads.tolist(), 1))]

    def sizeHint(self) -> QSize:
        return QSize(900, theme.px(190))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(300), theme.px(110))

    def paintEvent(self, event: QPaintEvent) -> None:
        if not len(self._loads):
            return
        painter = self.pen()
        plot = QRectF(theme.px(50), theme.px(8), self.width() - theme.px(60), self.height() - theme.px(28))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRect(plot)
        top = max(1.15, 1.05 * float(self._loads.max()))
        count = min(len(self._loads), max(int(plot.width() / 2), 1))
        groups = np.array_split(self._loads, count)
        width = plot.width() / count
        for late, name in ((False, "teal"), (True, "brick")):
            painter.setBrush(theme.colour(name))
            painter.drawRects([
                QRectF(plot.left() + k * width, plot.bottom() - plot.height() * g.max() / top,
                       max(width - 0.5, 0.5), plot.height() * g.max() / top)
                for k, g in enumerate(groups) if (g.max() > 1) == late
            ])  # fmt: skip
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        lines = ((1.0, "text", Qt.PenStyle.SolidLine), (self._typical, "brass", Qt.PenStyle.DashLine))
        for load, name, style in lines:
            y = plot.bottom() - plot.height() * min(load, top) / top
            painter.setPen(QPen(theme.colour(name), 1.4, style))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.drawText(QRectF(0, y - theme.px(7), plot.left() - theme.px(6), theme.px(14)), right, percent(load))
        painter.setPen(theme.colour("quiet"))
        words = f"{len(self._loads)} blocks; solid line: the deadline; dashed line: {self._dashed}"
        painter.drawText(QPointF(plot.left(), self.height() - theme.px(6)), words)
