"""The cost cards of a session as a table, as it looks: the grid of sizes as squares, states in their colours."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PySide6.QtCore import QItemSelectionModel, QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from ...core.session.computer import BUFFER_SIZES
from ...core.session.plugins import CardKey
from ..look.panels import size_table
from ..look.picture import elided
from ..look.rows import choose_rows
from ..look.theme import theme
from .measure_model import COST, GRID, MEMORY, PLUGIN, SETTING, STATE, USED, MeasureModel

Index = QModelIndex | QPersistentModelIndex
STATE_COLOURS = {
    "measured": "teal", "failed": "brick", "measuring": "brass", "sample": "quiet", "earlier": "brass",
    "updated": "brass",
}  # fmt: skip


class CellDelegate(QStyledItemDelegate):
    """Paints a cell of the table; the grid as one square a buffer size, filled as its results land."""

    def __init__(self, model: MeasureModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = model

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(theme.px(80), theme.px(25))

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(option.rect)  # type: ignore[attr-defined]
        selected = option.state & QStyle.StateFlag.State_Selected  # type: ignore[attr-defined]
        if selected:
            painter.fillRect(area, theme.colour("raised"))
        inner = area.adjusted(theme.px(6), 0, -theme.px(6), 0)
        if index.column() == GRID:
            self._paint_grid(painter, index.row(), inner)
        else:
            colour = "quiet" if index.column() in (SETTING, USED) else "text"
            if index.column() == STATE:
                is_sure = self._model.doubt(index.row()) == 1
                colour = STATE_COLOURS.get(self._model.status(index.row()), "quiet") if is_sure else "quiet"
            painter.setPen(theme.colour(colour))
            painter.setFont(theme.font(12))
            side = Qt.AlignmentFlag.AlignRight if index.column() in (USED, COST, MEMORY) else Qt.AlignmentFlag.AlignLeft
            text = elided(painter, str(index.data()), inner.width())
            painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | side, text)
        painter.restore()

    def _paint_grid(self, painter: QPainter, row: int, area: QRectF) -> None:
        """Filled: measured here; filled grey: known from elsewhere; outlined: not known."""
        step = min(area.width() / len(BUFFER_SIZES), theme.px(24))
        side = min(step - 3, area.height() - theme.px(10))
        outline = theme.colour("brick" if self._model.status(row) == "failed" else "line")
        for k, buffer in enumerate(BUFFER_SIZES):
            square = QRectF(area.left() + k * step, area.center().y() - side / 2, step - 3, side)
            if self._model.is_filled(row, buffer):
                colour = theme.colour("teal" if self._model.is_measured(row, buffer) else "quiet")
                painter.setPen(colour)
                painter.setBrush(colour)
            else:
                painter.setPen(outline)
                painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(square.adjusted(0.5, 0.5, -0.5, -0.5))


def _fit_names(table: QTableView) -> None:
    """Plugins' names in full, up to a length that leaves room for the other words."""
    model, metrics = table.model(), QFontMetricsF(theme.font(12))
    names = {str(model.index(row, PLUGIN).data()) for row in range(model.rowCount())}
    wanted = math.ceil(max(map(metrics.horizontalAdvance, names), default=0.0)) + 2 * theme.px(6) + 1
    table.setColumnWidth(PLUGIN, min(max(wanted, theme.px(120)), theme.px(200)))


class CardTable(QTableView):
    """The table: its columns sort, and words find rows."""

    def __init__(self, model: MeasureModel) -> None:
        super().__init__()
        self.setModel(model)
        self.setItemDelegate(CellDelegate(model, self))
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.verticalHeader().setVisible(False)
        self.setShowGrid(False)
        self.setAccessibleName("Cost cards of this session")
        self.setTabKeyNavigation(False)
        header = self.horizontalHeader()
        header.setHighlightSections(False)
        header.setSortIndicator(USED, Qt.SortOrder.DescendingOrder)
        self.setSortingEnabled(True)
        for column in (PLUGIN, SETTING, USED, STATE, GRID, COST, MEMORY):
            mode = QHeaderView.ResizeMode.Stretch if column in (SETTING, STATE) else QHeaderView.ResizeMode.Interactive
            header.setSectionResizeMode(column, mode)
        size_table(self, 25, {USED: 64, COST: 112, MEMORY: 72})
        theme.fit(self, _fit_names)
        model.modelReset.connect(lambda: _fit_names(self))
        self.setColumnWidth(GRID, 148)  # the room that larger text needs is wanted for words
        self._model, self._words = model, list[str]()
        # Rows in another order, or of another session, are shown and chosen as those before were.
        self._kept: list[CardKey] = []
        model.modelAboutToBeReset.connect(self._keep)
        model.modelReset.connect(self._take_up)

    def chosen(self) -> list[CardKey]:
        """The cards of the chosen rows, in their order."""
        rows = sorted(index.row() for index in self.selectionModel().selectedRows())
        return [self._model.rows[row][0] for row in rows]

    def look_for(self, words: str) -> None:
        """Shows the rows in whose plugin or setting all these words are."""
        self._words = words.casefold().split()
        self._show_found()

    def _show_found(self) -> None:
        for row in range(self._model.rowCount()):
            said = " ".join(str(self._model.index(row, column).data()) for column in (PLUGIN, SETTING)).casefold()
            self.setRowHidden(row, not all(word in said for word in self._words))

    def _keep(self) -> None:
        self._kept = self.chosen()

    def _take_up(self) -> None:
        self._show_found()
        self.choose(self._kept)

    def choose(self, keys: Sequence[CardKey]) -> None:
        """Chooses the rows of these cards, as far as they have one, whatever keys are held."""
        there = [self._model.index(self._model.row_of(key), 0) for key in keys if self._model.has(key)]
        choose_rows(self.selectionModel(), there)
        if there:
            self.selectionModel().setCurrentIndex(there[0], QItemSelectionModel.SelectionFlag.NoUpdate)
            self.scrollTo(there[0])
