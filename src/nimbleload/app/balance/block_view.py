"""One block: a lane for each core, every task in its place, the deadline, the bound, and the longest chain."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QHelpEvent, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from ...core.block.schedule import Block
from ...core.session.plugins import FAMILIES
from ...core.survey import Instant, Survey
from ...core.told.as_known import is_unknown
from ...core.units import count, milliseconds, percent
from ..look.picture import elided
from ..look.theme import TEXTURES, TILE, theme
from ..look.walking import Piece, WalkedPicture

# What a pixel of a lane can be beside a plugin of some family: nothing, and a task without one.
PLAIN = ("nothing", "task")
# The place of each family among what a pixel can show, after those.
PLACES: dict[str, int] = {name: len(PLAIN) + place for place, name in enumerate(FAMILIES)}


def _textures() -> NDArray[np.bool_]:
    """Which pixels of its tile are darker, for what a pixel can be (B, TILE, TILE)."""
    found = np.zeros((len(PLAIN) + len(FAMILIES), TILE, TILE), bool)
    for name, rows in TEXTURES.items():
        found[PLACES[name]] = [[mark == "#" for mark in row] for row in rows]
    return found


DARKER = _textures()


def textured(lane: NDArray[np.uint8], height: int) -> NDArray[np.uint8]:
    """A lane (W) drawn so many pixels high (H, W): where a family's texture is, its darker shade stands behind all."""
    y, x = np.arange(height)[:, None] % TILE, np.arange(len(lane))[None, :] % TILE
    dark = DARKER[lane[None, :], y, x]
    return np.asarray(lane[None, :] + np.uint8(len(FAMILIES)) * dark, np.uint8)


class BlockView(WalkedPicture):
    """The computed block of the chosen moment; `chosen` tells the strip whose task was clicked, or taken by Enter."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("One block on the cores", parent)
        self._of: Survey | None = None
        self._at: Instant | None = None
        self._block: Block | None = None
        self._selection: set[str] = set()
        self._chain: set[int] = set()
        self._places: list[QRectF] = []
        self._lane_pixels: list[NDArray[np.uint8]] = []
        self._drawn_at: tuple[int, int, int] | None = None

    def show_block(self, of: Survey, at: Instant, block: Block | None = None) -> None:
        """Shows the block of a moment; or another one of it, whose strips cost more or less. What is shown already is
        not drawn anew."""
        wanted = block or at.block
        if self._of is of and self._at is at and self._block is wanted:
            return
        self._of, self._at, self._block = of, at, wanted
        self._chain = set(self._block.chain)
        self._drawn_at = None
        chain = " → ".join(of.planned.session.strips[i].name for i in self._block.strips(self._block.chain))
        takes = (
            f"The block ends after {milliseconds(self._block.makespan)} of {milliseconds(of.deadline)}. "
            f"Bound {percent(self._block.bound / of.deadline)}. Longest chain: {chain}."
        )
        takes = "What a block takes is not known." if is_unknown(of) else takes
        self.describe(f"{count(of.threads, 'core')}. {takes}")
        self.update()

    def show_selection(self, strip_ids: tuple[str, ...]) -> None:
        self._selection = set(strip_ids)
        self.update()

    def figures(self) -> list[list[str]]:
        if self._of is None or self._block is None:
            return []
        block = self._block
        rows = [["track", "core", "start (µs)", "end (µs)"]]
        for task, core in enumerate(block.core):
            times = [f"{block.start[task] * 1e6:.1f}", f"{block.end[task] * 1e6:.1f}"]
            rows.append([self._name(task), str(core + 1), *times])
        return rows

    def _name(self, task: int) -> str:
        """The track of a task, and which part of it where there are several."""
        assert self._of is not None and self._block is not None
        strips = self._of.planned.session.strips
        name = strips[task % len(strips)].name
        return f"{name}, part {task // len(strips) + 1} of {self._block.parts}" if self._block.parts > 1 else name

    def sizeHint(self) -> QSize:
        return QSize(theme.px(400), theme.px(300))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(240), theme.px(170))

    # Geometry

    def _span(self) -> float:
        """The seconds from the left edge of the lanes to the right one."""
        assert self._of is not None and self._at is not None and self._block is not None
        return max(self._block.makespan, self._of.deadline) * 1.03

    def _lanes(self) -> QRectF:
        side = theme.px(50)
        return QRectF(side, theme.px(22), self.width() - side - theme.px(10), self.height() - theme.px(58))

    def _lane(self, core: int) -> QRectF:
        assert self._of is not None
        lanes = self._lanes()
        height = lanes.height() / self._of.threads
        gap = min(height * 0.3, theme.px(10))
        return QRectF(lanes.left(), lanes.top() + core * height + gap / 2, lanes.width(), height - gap)

    def _x(self, seconds: float) -> float:
        lanes = self._lanes()
        return lanes.left() + lanes.width() * seconds / self._span()

    def _arrange(self) -> None:
        """Works out where every task and every plugin in it is drawn, once for each block and size."""
        assert self._of is not None and self._at is not None and self._block is not None
        size = (self.width(), self.height(), theme.scale)
        if self._drawn_at == size:
            return
        self._drawn_at = size
        block, lanes = self._block, self._lanes()
        scale = lanes.width() / self._span()
        rows = [self._lane(core) for core in range(self._of.threads)]
        left = lanes.left() + block.start * scale
        width = (block.end - block.start) * scale
        self._places = [
            QRectF(x, rows[core].top(), w, rows[core].height())
            for x, w, core in zip(left.tolist(), width.tolist(), block.core.tolist(), strict=True)
        ]
        uses = self._of.planned.uses
        cost = np.array([self._at.use_costs[use.id] for use in uses.uses]) * uses.live / block.parts
        count = len(left) // block.parts
        # The plugins of each part, one part after the other.
        task = (uses.strip + count * np.arange(block.parts)[:, None]).ravel()
        cost = np.tile(cost, block.parts)
        # In a bad block a strip takes longer than its plugins usually do: they are drawn to fill it.
        usual = np.bincount(task, cost, minlength=len(left))
        taken = block.end - block.start
        cost = cost * np.divide(taken, usual, out=np.ones_like(taken), where=usual > taken)[task]
        until = np.concatenate(([0.0], np.cumsum(cost)))
        first = np.searchsorted(task, np.arange(len(left)))
        begin = block.start[task] + until[:-1] - until[first][task]
        drawn = self._pixels(task, begin, begin + cost, scale)
        self._lane_pixels = [
            textured(lane, max(round(row.height()), 1)) for lane, row in zip(drawn, rows, strict=True)
        ]

    def _pixels(
        self, task: NDArray[np.int64], begin: NDArray[np.float64], end: NDArray[np.float64], scale: float
    ) -> NDArray[np.uint8]:
        """What stands at each pixel of each lane (threads, W): nothing, a task without a plugin, or a family.

        `task` (U) says where each plugin runs, `begin` and `end` (U, seconds) when. Each pixel shows what is at its
        middle.
        """
        assert self._of is not None and self._block is not None
        block, uses = self._block, self._of.planned.uses
        width = max(int(self._lanes().width()), 1)
        middles = (np.arange(width) + 0.5) / scale
        drawn = np.zeros((self._of.threads, width), np.uint8)
        family = np.array([PLACES[use.family] for use in uses.uses], np.uint8)
        family = np.tile(family, block.parts)
        core = block.core[task]
        for lane in range(self._of.threads):
            tasks = np.flatnonzero(block.core == lane)
            own = np.flatnonzero((core == lane) & (end > begin))
            for starts, ends, what in (
                (block.start[tasks], block.end[tasks], np.ones(len(tasks), np.uint8)),
                (begin[own], end[own], family[own]),
            ):
                order = np.argsort(starts, kind="stable")
                last = np.searchsorted(starts[order], middles, side="right") - 1
                inside = last >= 0
                inside[inside] = ends[order][last[inside]] > middles[inside]
                drawn[lane, inside] = what[order][last[inside]]
        return drawn

    def _task_at(self, point: QPointF) -> int | None:
        if self._at is None:
            return None
        self._arrange()
        return next((task for task, area in enumerate(self._places) if area.contains(point)), None)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._of is None or self._at is None or self._block is None:
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
        self._paint_tasks(painter)
        self._paint_lines(painter, lanes, deadline)
        self._paint_words(painter)
        self.paint_walked(painter)

    def _paint_tasks(self, painter) -> None:
        """Each task as the row of its plugins, as wide as they cost, in their families' colours; then its frame."""
        assert self._of is not None and self._at is not None and self._block is not None
        self._arrange()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        shades = [theme.family_shades(name) for name in FAMILIES]
        plain = [QColor(0, 0, 0, 0), theme.colour("line")]
        colours = [*plain, *(light for light, _ in shades), *(dark for _, dark in shades)]
        table = [colour.rgba() for colour in colours]
        for core, pixels in enumerate(self._lane_pixels):
            height, width = pixels.shape
            image = QImage(pixels.tobytes(), width, height, width, QImage.Format.Format_Indexed8)
            image.setColorTable(table)
            painter.drawImage(self._lane(core), image, QRectF(image.rect()))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.colour("ground"), 1))
        painter.drawRects([area for area in self._places if area.width() >= 2])
        strips = self._of.planned.session.strips
        for task in range(len(self._places)):
            selected = strips[task % len(strips)].id in self._selection
            if selected or task in self._chain:
                painter.setPen(QPen(theme.colour("text" if selected else "brass"), 2))
                painter.drawRect(self._places[task].adjusted(0.5, 0.5, -0.5, -0.5))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QColor("#14110a"))
        for task, area in enumerate(self._places):
            strip = strips[task % len(strips)]
            if area.width() > theme.px(34) and area.height() >= theme.px(12):
                name = elided(painter, strip.name, area.width() - theme.px(6))
                painter.drawText(area.adjusted(theme.px(4), 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, name)

    def _paint_lines(self, painter, lanes: QRectF, deadline: float) -> None:
        assert self._of is not None and self._at is not None and self._block is not None
        painter.setPen(QPen(theme.colour("text"), 2))
        painter.drawLine(QPointF(deadline, lanes.top() - 3), QPointF(deadline, lanes.bottom() + 3))
        painter.setFont(theme.font(11, True))
        label = f"deadline {milliseconds(self._of.deadline)}"
        width = painter.fontMetrics().horizontalAdvance(label)
        painter.drawText(QPointF(min(deadline - width / 2, self.width() - width - 4), theme.px(14)), label)
        painter.setFont(theme.font(11))
        if is_unknown(self._of):
            return
        bound = self._x(self._block.bound)
        painter.setPen(QPen(theme.colour("teal"), 2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(bound, lanes.top() - 3), QPointF(bound, lanes.bottom() + 6))

    def _paint_words(self, painter) -> None:
        """Below the lanes: the bound, and the longest chain with its load."""
        assert self._of is not None and self._at is not None and self._block is not None
        if is_unknown(self._of):
            return
        block, strips = self._block, self._of.planned.session.strips
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
        chain = " → ".join(strips[i].name for i in block.strips(block.chain))
        painter.drawText(
            row, Qt.AlignmentFlag.AlignLeft, elided(painter, f"Longest chain {share}: {chain}", row.width())
        )

    # Mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        strip = self.strip_at(event.position())
        if strip is not None and event.button() == Qt.MouseButton.LeftButton:
            self.chosen.emit(strip)

    def strip_at(self, point: QPointF) -> str | None:
        """The id of the strip whose work lies there, if any does."""
        task = self._task_at(point)
        if task is None or self._of is None:
            return None
        return self._strip(task)

    def _strip(self, task: int) -> str:
        assert self._of is not None
        strips = self._of.planned.session.strips
        return strips[task % len(strips)].id

    def pieces(self) -> list[Piece]:
        if self._of is None or self._block is None:
            return []
        self._arrange()
        return [Piece(core, place) for core, place in zip(self._block.core.tolist(), self._places, strict=True)]

    def words_of(self, piece: int) -> str:
        assert self._of is not None and self._block is not None
        start, end = (float(times[piece]) for times in (self._block.start, self._block.end))
        cost = end - start
        return (
            f"{self._name(piece)}, on core {int(self._block.core[piece]) + 1} from {milliseconds(start)}\n"
            f"{cost * 1e6:.0f} µs, {percent(cost / self._of.deadline)} of one core"
        )

    def take(self, piece: int) -> None:
        self.chosen.emit(self._strip(piece))

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            task = self._task_at(QPointF(event.pos()))
            if task is not None:
                QToolTip.showText(event.globalPos(), self.words_of(task), self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)
