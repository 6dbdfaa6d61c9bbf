"""One block: a lane for each core, every task in its place, the deadline, the bound, and the longest chain."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QHelpEvent, QMouseEvent, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from ..core.survey import Instant, Survey
from ..core.verdict import milliseconds, percent
from .picture import Picture, elided
from .theme import theme


class BlockView(Picture):
    """The computed block of the chosen moment; `chosen` tells the strip whose task was clicked."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("One block on the cores", parent)
        self._of: Survey | None = None
        self._at: Instant | None = None
        self._selection: set[str] = set()
        self._chain: set[int] = set()

    def show_block(self, of: Survey, at: Instant) -> None:
        self._of, self._at = of, at
        self._chain = set(at.block.chain)
        chain = " → ".join(of.session.strips[i].name for i in at.block.chain)
        self.describe(
            f"{of.threads} cores. The block ends after {milliseconds(at.block.makespan)} "
            f"of {milliseconds(of.deadline)}. "
            f"Bound {percent(at.block.bound / of.deadline)}. Longest chain: {chain}."
        )
        self.update()

    def show_selection(self, strip_ids: tuple[str, ...]) -> None:
        self._selection = set(strip_ids)
        self.update()

    def figures(self) -> list[list[str]]:
        if self._of is None or self._at is None:
            return []
        block = self._at.block
        rows = [["track", "core", "start (µs)", "end (µs)"]]
        for i, strip in enumerate(self._of.session.strips):
            rows.append(
                [strip.name, str(block.core[i] + 1), f"{block.start[i] * 1e6:.1f}", f"{block.end[i] * 1e6:.1f}"]
            )
        return rows

    def sizeHint(self) -> QSize:
        return QSize(theme.px(400), theme.px(300))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(240), theme.px(170))

    # Geometry

    def _span(self) -> float:
        """The seconds from the left edge of the lanes to the right one."""
        assert self._of is not None and self._at is not None
        return max(self._at.block.makespan, self._of.deadline) * 1.03

    def _lanes(self) -> QRectF:
        side = theme.px(50)
        return QRectF(side, theme.px(22), self.width() - side - theme.px(10), self.height() - theme.px(58))

    def _x(self, seconds: float) -> float:
        lanes = self._lanes()
        return lanes.left() + lanes.width() * seconds / self._span()

    def _lane(self, core: int) -> QRectF:
        assert self._of is not None
        lanes = self._lanes()
        height = lanes.height() / self._of.threads
        gap = min(height * 0.3, theme.px(10))
        return QRectF(lanes.left(), lanes.top() + core * height + gap / 2, lanes.width(), height - gap)

    def _task(self, task: int) -> QRectF:
        assert self._at is not None
        block = self._at.block
        lane = self._lane(int(block.core[task]))
        left, right = self._x(float(block.start[task])), self._x(float(block.end[task]))
        return QRectF(left, lane.top(), right - left, lane.height())

    def _task_at(self, point: QPointF) -> int | None:
        if self._at is None:
            return None
        for task in range(len(self._at.block.start)):
            if self._task(task).contains(point):
                return task
        return None

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._of is None or self._at is None:
            return
        painter = self.pen()
        lanes = self._lanes()
        deadline = self._x(self._of.deadline)
        for core in range(self._of.threads):
            lane = self._lane(core)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("ground"))
            painter.drawRoundedRect(lane, 2, 2)
            painter.setBrush(theme.hatch(theme.colour("brick"), 7))
            painter.drawRect(QRectF(deadline, lane.top(), lanes.right() - deadline, lane.height()))
            if lane.height() >= theme.px(9) or core % 4 == 0:
                painter.setPen(theme.colour("quiet"))
                words = QRectF(0, lane.top(), lanes.left() - theme.px(7), max(lane.height(), theme.px(12)))
                painter.drawText(words, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"core {core + 1}")
        for task in range(len(self._at.block.start)):
            self._paint_task(painter, task)
        self._paint_lines(painter, lanes, deadline)
        self._paint_words(painter)

    def _paint_task(self, painter, task: int) -> None:
        """A task as the row of its plugins, each as wide as it costs, in its family's colour."""
        assert self._of is not None and self._at is not None
        area = self._task(task)
        if area.width() < 0.3:
            return
        strip = self._of.planned.session.strips[task]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("line"))
        painter.drawRect(area)
        left = area.left()
        for use in strip.live_uses():
            width = self._at.use_costs[use.id] / self._span() * self._lanes().width()
            painter.setBrush(theme.family(use.family))
            painter.drawRect(QRectF(left, area.top(), width, area.height()))
            left += width
        on_chain, selected = task in self._chain, strip.id in self._selection
        edge = theme.colour("text") if selected else theme.colour("brass") if on_chain else theme.colour("ground")
        painter.setPen(QPen(edge, 2 if selected or on_chain else 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(area.adjusted(0.5, 0.5, -0.5, -0.5))
        if area.width() > theme.px(34) and area.height() >= theme.px(12):
            painter.setPen(QColor("#14110a"))
            name = elided(painter, strip.name, area.width() - theme.px(6))
            painter.drawText(area.adjusted(theme.px(4), 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, name)

    def _paint_lines(self, painter, lanes: QRectF, deadline: float) -> None:
        assert self._of is not None and self._at is not None
        painter.setPen(QPen(theme.colour("text"), 2))
        painter.drawLine(QPointF(deadline, lanes.top() - 3), QPointF(deadline, lanes.bottom() + 3))
        painter.setFont(theme.font(11, True))
        label = f"deadline {milliseconds(self._of.deadline)}"
        width = painter.fontMetrics().horizontalAdvance(label)
        painter.drawText(QPointF(min(deadline - width / 2, self.width() - width - 4), theme.px(14)), label)
        painter.setFont(theme.font(11))
        bound = self._x(self._at.block.bound)
        painter.setPen(QPen(theme.colour("teal"), 2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(bound, lanes.top() - 3), QPointF(bound, lanes.bottom() + 6))

    def _paint_words(self, painter) -> None:
        """Below the lanes: the bound, and the longest chain with its load."""
        assert self._of is not None and self._at is not None
        block, strips = self._at.block, self._of.session.strips
        painter.setPen(theme.colour("teal"))
        text = f"bound {percent(block.bound / self._of.deadline)}"
        row = QRectF(theme.px(8), self.height() - theme.px(32), self.width() - theme.px(16), theme.px(14))
        painter.drawText(row, Qt.AlignmentFlag.AlignRight, text)
        waiting = 1 - block.work / (block.makespan * block.threads) if block.makespan > 0 else 0.0
        painter.setPen(theme.colour("quiet"))
        painter.drawText(row, Qt.AlignmentFlag.AlignLeft, f"Cores wait {percent(waiting)} of the block")
        painter.setPen(theme.colour("brass"))
        row.translate(0, theme.px(16))
        share = percent(block.chain_bound / self._of.deadline)
        chain = " → ".join(strips[i].name for i in block.chain)
        painter.drawText(
            row, Qt.AlignmentFlag.AlignLeft, elided(painter, f"Longest chain {share}: {chain}", row.width())
        )

    # Mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        task = self._task_at(event.position())
        if task is not None and self._of is not None and event.button() == Qt.MouseButton.LeftButton:
            self.chosen.emit(self._of.session.strips[task].id)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            task = self._task_at(QPointF(event.pos()))
            if task is not None and self._of is not None and self._at is not None:
                cost = float(self._at.strip_costs[task])
                name = self._of.session.strips[task].name
                text = f"{name}\n{cost * 1e6:.0f} µs, {percent(cost / self._of.deadline)} of one core"
                QToolTip.showText(event.globalPos(), text, self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)
