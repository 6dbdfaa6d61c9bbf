"""A cost card to look at: cost against buffer size, the rhythm of its blocks, and what both mean in sentences."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetricsF, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.cards.card import CONDITIONS, PROVENANCE_WORDS, CostCard
from ...core.cards.comparison import Lighter
from ...core.session.computer import BUFFER_SIZES, deadline
from ...core.session.plugins import PluginUse
from ...core.told.card import card_sentences
from ...core.units import count, percent
from ..look.picture import Picture, elided, scrolled
from ..look.prose import Prose
from ..look.theme import theme
from ..look.words import Words
from .plugin_settings import SettingsView

BLOCKS_SHOWN = 128
UNIT = "of one core"


class CostCurve(Picture):
    """Cost in per cent of one core against buffer size; a filled dot is measured, an open one is not."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Cost against buffer size", parent)
        self._card: CostCard | None = None
        self._rate, self._buffer = 48000, 256

    def show_card(self, card: CostCard | None, rate: int, buffer: int) -> None:
        self._card, self._rate, self._buffer = card, rate, buffer
        rows = self.figures()[1:]
        self.describe("; ".join(f"{row[0]} samples: sounding {row[1]} %, silent {row[2]} %" for row in rows))
        self.update()

    def _shares(self, condition) -> list[float]:
        assert self._card is not None
        return [self._card.cost(self._rate, b, condition).seconds / deadline(b, self._rate) for b in BUFFER_SIZES]

    def figures(self) -> list[list[str]]:
        if self._card is None:
            return []
        rows = zip(BUFFER_SIZES, *(self._shares(condition) for condition in CONDITIONS), strict=True)
        head = ["buffer (samples)", "sounding (% of one core)", "silent (% of one core)"]
        return [head, *([str(b), f"{sounding * 100:.3f}", f"{silent * 100:.3f}"] for b, sounding, silent in rows)]

    def sizeHint(self) -> QSize:
        return QSize(theme.px(330), theme.px(170))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(220), theme.px(130))

    def paintEvent(self, event: QPaintEvent) -> None:
        card = self._card
        if card is None or not card.cells:
            return
        painter = self.pen()
        right = self.width() - theme.px(12)
        # With large text the unit stands below what the lines are.
        from_left = theme.px(130) + painter.fontMetrics().horizontalAdvance(f"- -  silent  {UNIT}")
        line = 0 if from_left <= right else theme.px(15)
        plot = QRectF(theme.px(46), theme.px(20) + line, right - theme.px(46), self.height() - theme.px(42) - line)
        painter.fillRect(plot, theme.colour("ground"))
        top = 1.15 * max(max(self._shares(condition)) for condition in CONDITIONS) or 1.0
        x = [plot.left() + plot.width() * (k + 0.5) / len(BUFFER_SIZES) for k in range(len(BUFFER_SIZES))]
        self._paint_scale(painter, plot, top, x)
        for condition, name in zip(CONDITIONS, ("teal", "quiet"), strict=True):
            colour = theme.colour(name)
            points = [
                QPointF(a, plot.bottom() - plot.height() * share / top)
                for a, share in zip(x, self._shares(condition), strict=True)
            ]
            style = Qt.PenStyle.SolidLine if condition == "sounding" else Qt.PenStyle.DashLine
            painter.setPen(QPen(colour, 1.5, style))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(points))
            for buffer, point in zip(BUFFER_SIZES, points, strict=True):
                measured = card.cell(self._rate, buffer, condition) is not None
                painter.setPen(QPen(colour, 1.5))
                painter.setBrush(colour if measured else theme.colour("ground"))
                painter.drawEllipse(point, theme.px(3), theme.px(3))
        painter.setPen(theme.colour("teal"))
        painter.drawText(QPointF(plot.left(), theme.px(13)), "—  sounding")
        painter.setPen(theme.colour("quiet"))
        painter.drawText(QPointF(plot.left() + theme.px(84), theme.px(13)), "- -  silent")
        painter.drawText(QRectF(0, line, right, theme.px(17)), Qt.AlignmentFlag.AlignRight, UNIT)

    def _paint_scale(self, painter, plot: QRectF, top: float, x: list[float]) -> None:
        painter.setPen(theme.colour("quiet"))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for share in (0.0, top / 1.15):
            y = plot.bottom() - plot.height() * share / top
            painter.drawText(QRectF(0, y - theme.px(7), plot.left() - theme.px(5), theme.px(14)), right, percent(share))
        # From the chosen size on as many as have room.
        bold = QFontMetricsF(theme.font(11, True))
        every = math.ceil(bold.horizontalAdvance(f"{max(BUFFER_SIZES)} ") * len(x) / plot.width())
        shown = BUFFER_SIZES.index(self._buffer) % every if self._buffer in BUFFER_SIZES else 0
        for k, buffer in list(enumerate(BUFFER_SIZES))[shown::every]:
            chosen = buffer == self._buffer
            painter.setFont(theme.font(11, chosen))
            painter.setPen(theme.colour("brass" if chosen else "quiet"))
            area = QRectF(x[k] - theme.px(25), plot.bottom() + theme.px(4), theme.px(50), theme.px(14))
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, str(buffer))
        painter.setFont(theme.font(11))


class BlockRhythm(Picture):
    """The first blocks as they were measured at the chosen size, one bar each."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Cost of each block", parent)
        self._own = np.zeros(0, np.int32)
        self._buffer = 256

    def show_card(self, card: CostCard | None, rate: int, buffer: int) -> None:
        cell = card.cell(rate, buffer, "sounding") if card else None
        self._own = cell.sequence_ns()[:BLOCKS_SHOWN] if cell else np.zeros(0, np.int32)
        self._buffer = buffer
        if len(self._own):
            self.describe(f"{count(len(self._own), 'block')}, from {self._own.min()} to {self._own.max()} nanoseconds")
        self.setVisible(len(self._own) > 0)
        self.update()

    def figures(self) -> list[list[str]]:
        return [["block", "own time (ns)"], *([str(k), str(value)] for k, value in enumerate(self._own.tolist(), 1))]

    def sizeHint(self) -> QSize:
        return QSize(theme.px(330), theme.px(110))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(220), theme.px(90))

    def paintEvent(self, event: QPaintEvent) -> None:
        if not len(self._own):
            return
        painter = self.pen()
        plot = QRectF(theme.px(46), theme.px(18), self.width() - theme.px(58), self.height() - theme.px(24))
        painter.fillRect(plot, theme.colour("ground"))
        top = max(float(self._own.max()), 1.0)
        step = plot.width() / len(self._own)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("teal"))
        heights = (self._own / top * plot.height()).tolist()
        painter.drawRects(
            [QRectF(plot.left() + k * step, plot.bottom() - h, max(step - 0.6, 0.6), h) for k, h in enumerate(heights)]
        )
        painter.setPen(theme.colour("quiet"))
        words = f"{count(len(self._own), 'block')} of {self._buffer} samples, one bar each"
        painter.drawText(QPointF(plot.left(), theme.px(12)), elided(painter, words, self.width() - plot.left()))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop
        painter.drawText(
            QRectF(0, plot.top() - 3, plot.left() - theme.px(5), theme.px(14)), right, f"{top / 1e3:.0f} µs"
        )


class CardView(QFrame):
    """One card with its pictures and sentences. `pressed` is its button, beside its name."""

    pressed = Signal()

    def __init__(self, button: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.use: PluginUse | None = None
        self.setProperty("role", "panel")
        self._title, self._setting, self._words = Words(), Prose(), Prose()
        self._title.setProperty("role", "title")
        self._setting.setProperty("role", "quiet")
        self.curve, self.blocks = CostCurve(), BlockRhythm()
        self.button = QPushButton(button)
        self.button.setProperty("role", "word")
        self.button.clicked.connect(self.pressed)
        self.settings = SettingsView()
        top = QHBoxLayout()
        top.addWidget(self._title, 1)
        top.addWidget(self.button)
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(10, 7, 8, 6)
        column.addLayout(top)
        for part in (self._setting, self.curve, self.blocks, self._words, self.settings):
            column.addWidget(part)
        column.addStretch(1)
        theme.fit(self, lambda card: card.setMinimumWidth(theme.px(250)))
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scrolled(inside))
        self.show_nothing()

    def show_nothing(self) -> None:
        self._title.setText("Cost card")
        self._setting.setText("Choose a plugin to see what it costs and why.")
        self._words.setText("")
        self.use = None
        for part in (self.curve, self.blocks, self.settings, self.button):
            part.hide()

    def show_card(
        self,
        use: PluginUse,
        card: CostCard | None,
        rate: int,
        buffer: int,
        better: Sequence[Lighter] = (),
        trying: bool = False,
        more: Sequence[str] = (),
    ) -> None:
        """Shows what is known of one plugin setting, and what is lighter; `trying` while its settings are tried.

        `more` are further sentences.
        """
        self.use = use
        self.button.show()
        self.settings.show()
        self.settings.show_card(card, list(better), trying)
        self._title.setText(use.label)
        self._setting.setText(f"{use.plugin.made_as}; {use.words()}")
        self.curve.setVisible(card is not None and bool(card.cells))
        self.curve.show_card(card, rate, buffer)
        self.blocks.show_card(card, rate, buffer)
        sentences = ["Not measured yet."] if card is None else card_sentences(card, rate, buffer)
        if card is not None and card.cells:
            sources = sorted({PROVENANCE_WORDS[cell.provenance] for cell in card.cells})
            sentences.extend(more)
            sentences.append(f"The figures: {', '.join(sources)}.")
        self._words.setText("\n".join(f"•  {sentence}" for sentence in sentences))
        self.setAccessibleName(f"Cost card of {use.label}. {' '.join(sentences)}")
