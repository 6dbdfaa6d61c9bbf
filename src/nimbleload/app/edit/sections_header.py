"""The headings of the tree on the Session page, with the sections of the piece above the lanes of its tracks."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPoint, QRect, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QHeaderView, QTreeView

from ...core.session.session import Section
from ..look.picture import elided
from ..look.theme import theme
from .chain_painter import second_at, x_at
from .strip_model import WHEN

# So near a section's beginning (px) the mouse takes hold of it.
REACH = 5


class SectionsHeader(QHeaderView):
    """The tree's headings, with the sections above the lanes.

    `asked`: at a second something is to be named, a new section or the one that begins there. `moved`: the one that
    begins at a second is to begin at another. `menu_wanted`: what can be done at a second, and where (on the screen).
    """

    asked = Signal(float)
    moved = Signal(float, float)
    menu_wanted = Signal(float, QPoint)

    def __init__(self, parent: QTreeView) -> None:
        super().__init__(Qt.Orientation.Horizontal, parent)
        self._sections: Sequence[Section] = ()
        self._length = 0.0
        self._held: Section | None = None
        self._drawn = 0.0
        self.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.setMouseTracking(True)
        self.setAccessibleName("Headings, and the sections of the piece")

    def show_sections(self, sections: Sequence[Section], length: float) -> None:
        # What is being drawn stays in hand, as long as nothing else has changed.
        self._held = self._held if sections == self._sections else None
        self._sections, self._length = sections, length
        told = ", ".join(section.name for section in sections)
        self.setToolTip(f"Sections: {told}" if told else "Double-click above the lanes: a section begins there")
        self.viewport().update()

    def _cell(self) -> QRect:
        return QRect(self.sectionViewportPosition(WHEN), 0, self.sectionSize(WHEN), self.viewport().height())

    def _at(self, at: QPoint) -> Section | None:
        """The section whose beginning is under the mouse."""
        if not self._sections or not self._is_above_lanes(at):
            return None
        cell = self._cell()

        def distance(section: Section) -> float:
            return abs(x_at(cell, section.start, self._length) - at.x())

        nearest = min(self._sections, key=distance)
        return nearest if distance(nearest) <= theme.px(REACH) else None

    def _is_above_lanes(self, at: QPoint) -> bool:
        return self._length > 0 and self._cell().adjusted(theme.px(4), 0, 0, 0).contains(at)

    def _second(self, at: QPoint) -> float:
        found = self._at(at)
        return found.start if found is not None else round(second_at(self._cell(), at.x(), self._length), 1)

    def paintSection(self, painter: QPainter, rect: QRect, index: int) -> None:
        if index != WHEN or not self._sections:
            painter.save()
            super().paintSection(painter, rect, index)
            painter.restore()
            return
        painter.save()
        painter.fillRect(rect, theme.colour("panel"))
        painter.setFont(theme.font(11))
        starts = [self._drawn if each is self._held else each.start for each in self._sections]
        ends = [*sorted(starts), self._length]
        for section, start in zip(self._sections, starts, strict=True):
            left = x_at(rect, start, self._length)
            room = x_at(rect, next((end for end in ends if end > start), self._length), self._length) - left
            painter.setPen(QPen(theme.colour("brass" if section is self._held else "quiet"), 1))
            painter.drawLine(round(left), rect.top() + theme.px(3), round(left), rect.bottom())
            words = elided(painter, section.name, room - theme.px(6))
            painter.setPen(theme.colour("quiet"))
            place = QRect(round(left) + theme.px(4), rect.top(), max(round(room), 0), rect.height())
            painter.drawText(place, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, words)
        painter.restore()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position().toPoint()
        self._held = self._at(at) if event.button() == Qt.MouseButton.LeftButton else None
        if self._held is None:
            super().mousePressEvent(event)
        else:
            self._drawn = self._held.start

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position().toPoint()
        if self._held is not None:
            self._drawn = round(second_at(self._cell(), at.x(), self._length), 1)
            self.viewport().update()
            return
        super().mouseMoveEvent(event)
        if self._at(at) is not None:
            self.viewport().setCursor(Qt.CursorShape.SizeHorCursor)
        elif self._is_above_lanes(at):
            self.viewport().unsetCursor()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        held, self._held = self._held, None
        if held is None:
            super().mouseReleaseEvent(event)
        elif self._drawn != held.start:
            self.moved.emit(held.start, self._drawn)
        self.viewport().update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = event.position().toPoint()
        if self._is_above_lanes(at):
            self._held = None
            self.asked.emit(self._second(at))
        else:
            super().mouseDoubleClickEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self._is_above_lanes(event.pos()):
            self.menu_wanted.emit(self._second(event.pos()), event.globalPos())
