"""Load through the piece: now and with the plan, the limit and the deadline, the sections, the chosen moment."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QNativeGestureEvent, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QGestureEvent, QPinchGesture, QWidget
from shiboken6 import VoidPtr

from ...core.load.load_map import LoadMap
from ...core.load.ranking import Stretch
from ...core.survey import Survey, worst_seconds
from ...core.units import clock, exact_clock, percent
from ..look.beside_lines import beside_lines
from ..look.picture import Picture, elided, focus_frame
from ..look.seen import MOVED, Seen
from ..look.theme import theme

# No less than so many seconds are seen; a notch of the wheel shows so much of what was.
LEAST_SEEN, NOTCH = 1.0, 0.8


def polygon(x: NDArray[np.float64], y: NDArray[np.float64]) -> QPolygonF:
    """A polygon of these points (N, N), filled without making a Python object for each."""
    shape = QPolygonF()
    shape.resize(len(x))
    memory = np.frombuffer(VoidPtr(shape.data(), 16 * len(x), True), np.float64)  # type: ignore
    memory[0::2], memory[1::2] = x, y
    return shape


class TimelineView(Picture):
    """The load of every moment; `moved` tells the second that was clicked, `stepped` a step to the next moment.

    `stretched` tells the two seconds between which the mouse was drawn with Shift held; None when they are let go. A
    part of the piece can be looked at more closely: with the wheel, two fingers or keys.
    """

    moved = Signal(float)
    stepped = Signal(int)
    stretched = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Load through the piece", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self._of: Survey | None = None
        self._held: LoadMap | None = None
        self._second = 0.0
        self._worst: list[float] = []
        self._hover: float | None = None
        self._shapes: dict[tuple[bool, int, int, Stretch], QPolygonF] = {}
        self._band: NDArray[np.float64] | None = None
        self.stretch: Stretch | None = None
        self._drawn_from: float | None = None
        self._seen = Seen(LEAST_SEEN)
        self._grasped: float | None = None
        self.grabGesture(Qt.GestureType.PinchGesture)

    def show_survey(self, of: Survey, held: LoadMap | None = None) -> None:
        """Shows the load with the plan and without, and that of a version that is `held` as a line."""
        top = self._top() if self._of is not None else 0.0
        kept = self._of is not None and of.before is self._of.before and self._top_of(of, held) == top
        self._of, self._held = of, held if held is not of.after else None
        self._shapes = {key: shape for key, shape in self._shapes.items() if kept and not key[0]}
        self._worst = worst_seconds(of.after, 5)
        self._seen.grow_to(self._length())
        self._look()

    def shows(self, of: Survey, held: LoadMap | None) -> bool:
        """Whether it shows that survey and that held version already."""
        return self._of is of and self._held is (held if held is not of.after else None)

    def show_band(self, bad: NDArray[np.float64] | None) -> None:
        """What one block in a hundred reaches in each moment with the plan (M, fractions), once it is known."""
        if bad is not self._band:
            self._band = bad
            self.update()

    def show_second(self, second: float) -> None:
        """The chosen moment; what is seen follows it."""
        seen = self._seen.ends
        if second != self._second:
            self._seen.follow(second)
        self._second = second
        if self._seen.ends != seen:
            self._look()
        self.update()

    # What is seen of the piece

    def _look(self) -> None:
        """Shows, and says, what is seen now."""
        if self._of is None:
            return
        seen = "" if self._seen.is_all else " Seen from {} to {}.".format(*map(clock, self._seen.ends))
        highest, where = self._of.after.highest, ", ".join(clock(s) for s in self._worst)
        self.describe(f"Highest load {percent(highest)}; worst moments at {where}.{seen}")
        self.update()

    def zoom(self, factor: float, around: float | None = None) -> None:
        """Shows so many times as much of the piece; a second, or the chosen moment, stays where it is."""
        self._seen.zoom(factor, self._second if around is None else around)
        self._look()

    def see_all(self) -> None:
        """Shows all of the piece."""
        self._seen.see_all()
        self._look()

    def _move_by(self, share: float) -> None:
        """Shows what comes later, or before, by a share of what is seen."""
        self._seen.move(share)
        self._look()

    def figures(self) -> list[list[str]]:
        if self._of is None:
            return []
        before, after = self._of.before, self._of.after
        rows = [["start (s)", "end (s)", "load with the plan", "longest chain", "evenly spread", "first block"]]
        for m in range(len(after.load)):
            figures = (
                after.times[m],
                after.times[m + 1],
                after.load[m],
                after.chain[m],
                after.spread[m],
                after.waking[m],
            )
            rows.append([f"{value:.4f}" for value in figures])
        if before is not after:
            rows.append(["start (s)", "end (s)", "load without the plan"])
            for m in range(len(before.load)):
                rows.append([f"{value:.4f}" for value in (before.times[m], before.times[m + 1], before.load[m])])
        if self._held is not None:
            rows.append(["start (s)", "end (s)", "load of the version held"])
            borders = zip(self._held.times[:-1], self._held.times[1:], self._held.load, strict=True)
            rows += [[f"{value:.4f}" for value in row] for row in borders]
        return rows

    def sizeHint(self) -> QSize:
        return QSize(900, theme.px(170))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(300), theme.px(110))

    # Geometry

    def _plot(self) -> QRectF:
        return QRectF(theme.px(44), theme.px(6), self.width() - theme.px(56), self.height() - theme.px(28))

    def _top(self) -> float:
        assert self._of is not None
        return self._top_of(self._of, self._held)

    @staticmethod
    def _top_of(of: Survey, held: LoadMap | None) -> float:
        """The load at the upper edge."""
        maps = (of.before, of.after) if held is None else (of.before, of.after, held)
        return max(1.15, 1.12 * max(float(each.load.max()) for each in maps))

    def _length(self) -> float:
        assert self._of is not None
        return max(float(self._of.after.times[-1]), 1e-9)

    def _x(self, second: float) -> float:
        plot = self._plot()
        return plot.left() + plot.width() * (second - self._seen.ends[0]) / self._seen.span

    def _xs(self, seconds: NDArray[np.float64]) -> NDArray[np.float64]:
        plot = self._plot()
        return plot.left() + plot.width() * (seconds - self._seen.ends[0]) / self._seen.span

    def _y(self, load: float) -> float:
        plot = self._plot()
        return plot.bottom() - plot.height() * load / self._top()

    def _area(self, planned: bool) -> QPolygonF:
        """The filled shape under the load, with the plan or without, which is constant within each moment."""
        key = (planned, self.width(), self.height(), self._seen.ends)
        if key not in self._shapes:
            assert self._of is not None
            of = self._of.after if planned else self._of.before
            self._shapes[key] = self._shape(of.times, of.load)
        return self._shapes[key]

    def _shape(self, times: NDArray[np.float64], load: NDArray[np.float64]) -> QPolygonF:
        plot = self._plot()
        x = self._xs(np.repeat(times, 2))
        y = plot.bottom() - plot.height() * np.concatenate(([0.0], np.repeat(load, 2), [0.0])) / self._top()
        return polygon(x, y)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._of is None:
            return
        painter = self.pen()
        plot = self._plot()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRect(plot)
        painter.save()
        painter.setClipRect(plot)
        after = self._area(True)
        if self._of.before is not self._of.after:
            painter.setBrush(theme.colour("before"))
            painter.drawPolygon(self._area(False))
        if self._band is not None and len(self._band) == len(self._of.after.load):
            painter.setBrush(theme.hatch(theme.colour("text"), 4))
            painter.drawPolygon(self._shape(self._of.after.times, self._band))
        painter.setBrush(theme.colour("teal"))
        painter.drawPolygon(after)
        self._paint_overload(painter, plot, after)
        self._paint_held(painter, plot)
        self._paint_waking(painter, plot)
        self._paint_stretch(painter, plot)
        painter.restore()
        self._paint_frame(painter, plot)
        self._paint_seen(painter, plot)
        painter.setClipRect(plot)
        self._paint_moment(painter, plot)
        painter.setClipping(False)
        focus_frame(painter, self)

    def _paint_overload(self, painter, plot: QRectF, after: QPolygonF) -> None:
        """What lies above the deadline under the plan, in another colour and hatched."""
        painter.save()
        painter.setClipRect(
            QRectF(plot.left(), plot.top(), plot.width(), self._y(1.0) - plot.top()), Qt.ClipOperation.IntersectClip
        )
        painter.setBrush(theme.colour("brick"))
        painter.drawPolygon(after)
        painter.setBrush(theme.hatch(theme.colour("ground"), 5))
        painter.drawPolygon(after)
        painter.restore()

    def _paint_held(self, painter, plot: QRectF) -> None:
        """The load of the version that is held, as a line over everything."""
        if self._held is None:
            return
        times = np.minimum(np.repeat(self._held.times, 2)[1:-1], self._length())
        x = self._xs(times)
        y = plot.bottom() - plot.height() * np.repeat(self._held.load, 2) / self._top()
        painter.setPen(QPen(theme.colour("text"), 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(polygon(x, y))
        painter.setPen(Qt.PenStyle.NoPen)

    def _paint_stretch(self, painter, plot: QRectF) -> None:
        """The chosen stretch, bright between two lines."""
        if self.stretch is None:
            return
        left, right = (self._x(second) for second in self.stretch)
        shade = theme.colour("brass")
        shade.setAlphaF(0.16)
        painter.fillRect(QRectF(left, plot.top(), right - left, plot.height()), shade)
        painter.setPen(QPen(theme.colour("brass"), 1))
        for x in (left, right):
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))

    def _paint_waking(self, painter, plot: QRectF) -> None:
        """The first blocks of moments in which something wakes up, as lines above the load; past the deadline thick."""
        assert self._of is not None
        of = self._of.after
        for m in np.flatnonzero(of.waking > 1.01 * of.load).tolist():
            late = of.waking[m] > 1.0
            painter.setPen(QPen(theme.colour("brick" if late else "quiet"), 2 if late else 1))
            x, top = self._x(float(of.times[m])), max(self._y(float(of.waking[m])), plot.top())
            painter.drawLine(QPointF(x, self._y(float(of.load[m]))), QPointF(x, top))

    def _paint_frame(self, painter, plot: QRectF) -> None:
        """The limit, the deadline, and the sections' borders and names."""
        assert self._of is not None
        limit = self._of.session.limit
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for load, name, style in ((1.0, "text", Qt.PenStyle.SolidLine), (limit, "brass", Qt.PenStyle.DashLine)):
            y = self._y(load)
            painter.setPen(QPen(theme.colour(name), 1.4, style))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.drawText(self.label_places()[load], right, percent(load))
        sections = self._of.session.sections
        for k, section in enumerate(sections):
            end = min(self._x(sections[k + 1].start) if k + 1 < len(sections) else plot.right(), plot.right())
            begins = self._x(section.start)
            x = max(begins, plot.left())
            if x >= end:
                continue
            if begins >= plot.left():
                painter.setPen(theme.colour("line"))
                painter.drawLine(QPointF(x, plot.top()), QPointF(x, self.height() - theme.px(6)))
            painter.setPen(theme.colour("quiet"))
            name = elided(painter, f"{section.name}  {clock(section.start)}", end - x - theme.px(8))
            painter.drawText(QPointF(x + theme.px(5), self.height() - theme.px(8)), name)

    def _paint_seen(self, painter, plot: QRectF) -> None:
        """Where in the piece lies what is seen, as a line below, and its two ends in figures; nothing if it is all."""
        if self._seen.is_all:
            return
        below, share = self.height() - theme.px(3), plot.width() / self._length()
        for colour, first, last in (("line", 0.0, self._length()), ("brass", *self._seen.ends)):
            painter.setPen(QPen(theme.colour(colour), theme.px(3)))
            painter.drawLine(QPointF(plot.left() + first * share, below), QPointF(plot.left() + last * share, below))
        row = QRectF(plot.left() + theme.px(4), plot.bottom() - theme.px(16), plot.width() - theme.px(8), theme.px(14))
        painter.setPen(theme.colour("text"))
        sides = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignRight
        for second, side in zip(self._seen.ends, sides, strict=True):
            painter.drawText(row, side | Qt.AlignmentFlag.AlignVCenter, exact_clock(round(second, 1)))

    def label_places(self) -> dict[float, QRectF]:
        """Where the deadline (1.0) and the limit are written beside their lines."""
        assert self._of is not None
        heights = {load: self._y(load) for load in (1.0, self._of.session.limit)}
        return beside_lines(heights, self._plot().left() - theme.px(6), theme.px(14))

    def _paint_moment(self, painter, plot: QRectF) -> None:
        """The worst moments as marks along the top, the chosen one as a line with its time."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("text"))
        for second in self._worst:
            x = self._x(second)
            painter.drawPolygon(
                QPolygonF([QPointF(x - 4, plot.top()), QPointF(x + 4, plot.top()), QPointF(x, plot.top() + 6)])
            )
        if self._hover is not None:
            painter.setPen(QPen(theme.colour("quiet"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(self._x(self._hover), plot.top()), QPointF(self._x(self._hover), plot.bottom()))
        x = self._x(min(max(self._second, 0.0), self._length()))
        painter.setPen(QPen(theme.colour("brass"), 2))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        painter.setFont(theme.font(11, True))
        label = clock(self._second)
        width = painter.fontMetrics().horizontalAdvance(label) + theme.px(8)
        left = x + 3 if x + width + 3 < plot.right() else x - width - 3
        flag = QRectF(left, plot.top() + theme.px(8), width, theme.px(16))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("brass"))
        painter.drawRoundedRect(flag, 2, 2)
        painter.setPen(theme.colour("on_brass"))
        painter.drawText(flag, Qt.AlignmentFlag.AlignCenter, label)

    # Mouse and keyboard

    def second_at(self, x: float) -> float:
        """Which second of the piece lies there."""
        plot = self._plot()
        share = (x - plot.left()) / max(plot.width(), 1)
        return self._seen.ends[0] + min(max(share, 0.0), 1.0) * self._seen.span

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._of is None:
            return
        if event.button() == Qt.MouseButton.MiddleButton:
            self._grasped = event.position().x()
        if event.button() != Qt.MouseButton.LeftButton:
            return
        second = self.second_at(event.position().x())
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._drawn_from = second
            return
        self.take_stretch(None)
        self.moved.emit(second)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drawn_from = self._grasped = None

    def let_go(self) -> None:
        """No stretch is chosen any more, and all is seen."""
        self._seen.see_all()
        self.take_stretch(None)

    def take_stretch(self, stretch: Stretch | None) -> None:
        """Chooses a stretch of the piece, or none."""
        if stretch != self.stretch:
            self.stretch = stretch
            self.stretched.emit(stretch)
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._of is None:
            return
        if self._grasped is not None:
            self._move_by((self._grasped - event.position().x()) / max(self._plot().width(), 1))
            self._grasped = event.position().x()
        second = self.second_at(event.position().x())
        if self._drawn_from is not None and second != self._drawn_from:
            self.take_stretch((min(self._drawn_from, second), max(self._drawn_from, second)))
        elif event.buttons() & Qt.MouseButton.LeftButton and self._drawn_from is None:
            self.moved.emit(second)
        self._hover = second
        after = self._of.after
        moment = self._of.planned.moments.at(second)
        peak = f", one block in a hundred {percent(float(self._band[moment]))}" if self._band is not None else ""
        self.setToolTip(f"{clock(second)}: {percent(float(after.load[moment]))}{peak}")
        self.update()

    def _stretch_by(self, step: int) -> None:
        """Draws the stretch from the chosen second on, a hundredth of what is seen longer or shorter."""
        other = self._second
        if self.stretch is not None:
            other = self.stretch[0] if self.stretch[1] == self._second else self.stretch[1]
        other = min(max(other + step * self._seen.span / 100, 0.0), self._length())
        self.take_stretch((min(self._second, other), max(self._second, other)) if other != self._second else None)

    def leaveEvent(self, event) -> None:
        self._hover = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        page = {Qt.Key.Key_PageUp: -1, Qt.Key.Key_PageDown: 1}.get(Qt.Key(event.key()))
        if event.key() == Qt.Key.Key_Escape and self.stretch is not None:
            self.take_stretch(None)
        elif event.key() == Qt.Key.Key_Home:
            self.see_all()
        elif page is not None:
            self._move_by(page * (1 - MOVED))
        elif step is not None and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._stretch_by(step)
        elif step is None:
            super().keyPressEvent(event)
        else:
            self.stepped.emit(step)

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Up shows less and more closely, down more; sideways, or with Shift, what comes later or before."""
        notches, aside = event.angleDelta().y() / 120, event.angleDelta().x() / 120
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            notches, aside = 0.0, aside or notches
        if self._of is not None:
            if aside:
                self._move_by(-MOVED * aside)
            if notches:
                self.zoom(NOTCH**notches, self.second_at(event.position().x()))
        event.accept()

    def event(self, event: QEvent) -> bool:
        """Two fingers on a touchpad or a screen, beside all else."""
        if isinstance(event, QNativeGestureEvent) and event.gestureType() == Qt.NativeGestureType.ZoomNativeGesture:
            self.zoom(1 / max(1 + event.value(), 0.1), self.second_at(event.position().x()))
            return True
        if isinstance(event, QGestureEvent):
            pinch = event.gesture(Qt.GestureType.PinchGesture)
            if isinstance(pinch, QPinchGesture) and pinch.scaleFactor() > 0:
                centre = self.mapFromGlobal(pinch.centerPoint().toPoint())
                self.zoom(1 / pinch.scaleFactor(), self.second_at(centre.x()))
                return True
        return super().event(event)
