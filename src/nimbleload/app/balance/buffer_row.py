"""All buffer sizes side by side, each with its load, its round trip and a word: chart and choice in one."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QKeyEvent, QMouseEvent, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ...core.load.judged import Rung
from ...core.load.peaks import Peaks
from ...core.units import milliseconds, percent
from ..look.picture import Picture, focus_frame
from ..look.theme import theme

# A bar of full width is this load.
FULL = 1.5


class BufferRow(Picture):
    """The ladder of buffer sizes at the chosen moment; `chosen` tells the size that was clicked."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Load at every buffer size", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._rungs: list[Rung] = []
        self._buffer = 0
        self._limit = 0.8
        self._peaks: dict[int, Peaks] = {}
        self._held: dict[int, float] = {}

    def show_rungs(self, rungs: list[Rung], buffer: int, limit: float) -> None:
        """Shows the ladder; peaks come later, with `show_peaks`."""
        self._rungs, self._buffer, self._limit = rungs, buffer, limit
        self._describe()
        self.update()

    def show_peaks(self, peaks: dict[int, Peaks]) -> None:
        """What one block in a hundred reaches at each size; none while they are not known."""
        if peaks is not self._peaks:
            self._peaks = peaks
            self._describe()
            self.update()

    def show_held(self, held: dict[int, float]) -> None:
        """The load that this computer was found to hold at each size (fractions); none where that is not known."""
        self._held = held
        self._describe()
        self.update()

    def _describe(self) -> None:
        self.describe("; ".join(f"{r.buffer} samples: {self._words(r)}" for r in self._rungs))

    def _words(self, rung: Rung) -> str:
        heard = f", heard after {milliseconds(rung.heard)}{', too late' if rung.is_late else ''}"
        held = f", this computer holds {percent(self._held[rung.buffer])}" if rung.buffer in self._held else ""
        return f"{percent(rung.load)}{self._peak(rung)}, {rung.word}{heard if rung.heard > 0 else ''}{held}"

    def _peak(self, rung: Rung) -> str:
        found = self._peaks.get(rung.buffer)
        return f", peak {percent(found.bad)}" if found is not None and rung.word != "not known" else ""

    def figures(self) -> list[list[str]]:
        head = [
            "buffer (samples)",
            "load",
            "one block in a hundred",
            "longest chain",
            "evenly spread",
            "in and out (ms)",
            "heard after (ms)",
            "word",
            "held here",
        ]
        rows = [
            [
                str(r.buffer),
                f"{r.load:.4f}",
                self._bad(r),
                f"{r.chain:.4f}",
                f"{r.spread:.4f}",
                f"{r.round_trip * 1e3:.2f}",
                f"{r.heard * 1e3:.2f}" if r.heard > 0 else "",
                r.word,
                f"{self._held[r.buffer]:.2f}" if r.buffer in self._held else "",
            ]
            for r in self._rungs
        ]
        return [head, *rows]

    def _records(self) -> bool:
        """Whether somebody is recorded, to whom the time until he hears himself matters."""
        return any(rung.heard > 0 for rung in self._rungs)

    def _bad(self, rung: Rung) -> str:
        found = self._peaks.get(rung.buffer)
        return f"{found.bad:.4f}" if found is not None else ""

    def sizeHint(self) -> QSize:
        return QSize(900, theme.px(84))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(560), theme.px(84))

    def _cells(self) -> list[QRectF]:
        left = theme.px(78)
        if not self._rungs:
            return []
        width = (self.width() - left - theme.px(8)) / len(self._rungs)
        return [
            QRectF(left + k * width, theme.px(5), width, self.height() - theme.px(10)) for k in range(len(self._rungs))
        ]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = self.pen()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("panel"))
        painter.drawRoundedRect(self.rect(), 5, 5)
        painter.setPen(theme.colour("quiet"))
        x, top = theme.px(12), theme.px(9)
        for line, text in enumerate(("Buffer", "heard after" if self._records() else "in and out", "load")):
            painter.drawText(x, top + theme.px((11, 27, 51)[line]), text)
        for rung, cell in zip(self._rungs, self._cells(), strict=True):
            self._paint_cell(painter, rung, cell)
        focus_frame(painter, self)

    def _paint_cell(self, painter, rung: Rung, cell: QRectF) -> None:
        chosen = rung.buffer == self._buffer
        if chosen:
            painter.setBrush(theme.colour("raised"))
            painter.setPen(theme.colour("brass"))
            painter.drawRoundedRect(cell, 5, 5)
        inner = cell.adjusted(theme.px(9), theme.px(4), -theme.px(9), 0)
        painter.setFont(theme.font(13, chosen))
        painter.setPen(theme.colour("text"))
        line = QRectF(inner.left(), inner.top(), inner.width(), theme.px(18))
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, str(rung.buffer))
        self._paint_bar(painter, rung, QRectF(inner.left(), inner.top() + theme.px(23), inner.width(), theme.px(12)))
        small = QFontMetrics(theme.font(11))
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        number = QFontMetrics(theme.font(13, True)).horizontalAdvance(str(rung.buffer)) + theme.px(6)
        load = "—" if rung.word == "not known" else percent(rung.load)
        used = QFontMetrics(theme.font(13, True)).horizontalAdvance(load) + theme.px(7)
        base = QRectF(inner.left(), inner.top() + theme.px(42), inner.width(), theme.px(18))
        painter.setPen(theme.for_load(rung.word))
        painter.setFont(theme.font(13, True))
        painter.drawText(base, left, load)
        painter.setFont(theme.font(11))
        # Where there is little room, the word is worth more than the round trip.
        beside = used + small.horizontalAdvance(rung.word) <= inner.width()
        if beside:
            painter.drawText(base.adjusted(used, 0, 0, 0), left, rung.word)
        elif number + small.horizontalAdvance(rung.word) <= inner.width():
            painter.drawText(line, right, rung.word)
        painter.setPen(theme.colour("quiet"))
        trips = [milliseconds(rung.heard if self._records() else rung.round_trip)]
        if rung.is_late:
            painter.setPen(theme.colour("brick"))
            trips = [f"{trips[0]}: late", "late"]
        fitting = (trip for trip in trips if number + small.horizontalAdvance(trip) <= inner.width())
        painter.drawText(line, right, next(fitting, "") if beside else "")
        painter.setPen(theme.colour("quiet"))
        peak = self._peak(rung).removeprefix(", ")
        if beside and used + small.horizontalAdvance(rung.word + "   " + peak) <= inner.width():
            painter.drawText(base, right, peak)

    def _paint_bar(self, painter, rung: Rung, bar: QRectF) -> None:
        """The load from the left, hatched past the deadline (the solid line); the limit is the dotted line, what this
        computer was found to hold the small triangle below."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRoundedRect(bar, 2, 2)
        colour = theme.for_load(rung.word)
        deadline = bar.left() + bar.width() / FULL
        end = bar.left() + bar.width() * min(rung.load / FULL, 1)
        painter.setBrush(colour)
        painter.drawRect(QRectF(bar.left(), bar.top(), min(end, deadline) - bar.left(), bar.height()))
        if end > deadline:
            painter.setBrush(theme.hatch(colour, 4))
            painter.drawRect(QRectF(deadline, bar.top(), end - deadline, bar.height()))
        found = self._peaks.get(rung.buffer)
        if found is not None and rung.word != "not known":
            peak = int(bar.left() + bar.width() * min(found.bad / FULL, 1)) - 1
            painter.setPen(QPen(theme.colour("text"), 1))
            painter.drawLine(peak, int(bar.top()) + 2, peak, int(bar.bottom()) - 2)
            painter.drawLine(int(end), int(bar.center().y()), peak, int(bar.center().y()))
        painter.setPen(QPen(theme.colour("text"), 2))
        painter.drawLine(int(deadline), int(bar.top()) - 3, int(deadline), int(bar.bottom()) + 3)
        painter.setPen(QPen(theme.colour("quiet"), 1, Qt.PenStyle.DotLine))
        limit = int(bar.left() + bar.width() * self._limit / FULL)
        painter.drawLine(limit, int(bar.top()) - 2, limit, int(bar.bottom()) + 2)
        if rung.buffer in self._held:
            x, y, size = bar.left() + bar.width() * self._held[rung.buffer] / FULL, bar.bottom() + 1, theme.px(4)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("text"))
            painter.drawPolygon([QPointF(x, y), QPointF(x - size, y + size), QPointF(x + size, y + size)])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        buffer = self.buffer_at(event.position())
        if buffer is not None:
            self._choose(buffer)

    def buffer_at(self, point: QPointF) -> int | None:
        """Which buffer size stands there, if any."""
        cells = zip(self._rungs, self._cells(), strict=True)
        return next((rung.buffer for rung, cell in cells if cell.contains(point)), None)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self.step(step)

    def step(self, step: int) -> None:
        """Chooses the next larger (1) or smaller (−1) size; further presses count from there at once."""
        sizes = [r.buffer for r in self._rungs]
        if self._buffer in sizes:
            self._choose(sizes[min(max(sizes.index(self._buffer) + step, 0), len(sizes) - 1)])

    def _choose(self, buffer: int) -> None:
        self._buffer = buffer
        self.update()
        self.chosen.emit(buffer)
