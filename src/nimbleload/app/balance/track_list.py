"""The list of tracks by cost: each row a name, a decision, its plugins as a strip, a figure, and when it sounds."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import (
    QItemSelection,
    QModelIndex,
    QPersistentModelIndex,
    QRect,
    QRectF,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from ...core.load.ranking import Basis, Stretch
from ...core.session.plugins import FAMILIES
from ...core.session.strips import Strip
from ...core.survey import Instant, Survey
from ...core.units import clock
from ..look.elided import Elided
from ..look.on_key import on_key
from ..look.picture import elided
from ..look.rows import choose_rows
from ..look.theme import theme
from ..look.words import Words
from ..look.wrapping import Wrapping
from .track_model import BUCKETS, STRIP_ROLE, TrackModel

BASES: dict[Basis, str] = {"moment": "moment", "peak": "peak", "piece": "piece"}
Index = QModelIndex | QPersistentModelIndex


class TrackDelegate(QStyledItemDelegate):
    """Paints one row."""

    def __init__(self, model: TrackModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._model = model

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(theme.px(200), theme.px(24))

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        row: QRect = option.rect  # type: ignore[attr-defined]
        state = option.state  # type: ignore[attr-defined]
        if state & QStyle.StateFlag.State_Selected:
            painter.setBrush(theme.colour("raised"))
            painter.setPen(theme.colour("brass"))
            painter.drawRoundedRect(row.adjusted(0, 1, -1, -1), 3, 3)
        strip = self._model.strip(index)
        right = row.right() - theme.px(6)
        roomy = row.width() >= theme.px(380)  # else the name is worth more than when the track sounds
        span = theme.px(64) if roomy else 0
        activity = QRectF(right - span, row.top() + theme.px(7), span, row.height() - theme.px(14))
        figure = QRectF(activity.left() - theme.px(52), row.top(), theme.px(44), row.height())
        free = figure.left() - row.left()
        bar_width = max(free * (0.40 if roomy else 0.22), theme.px(30))
        bar = QRectF(figure.left() - bar_width, row.top() + theme.px(6), bar_width, row.height() - theme.px(12))
        pill = QRectF(bar.left() - theme.px(66), row.top() + theme.px(4), theme.px(58), row.height() - theme.px(8))
        name = QRectF(row.left() + theme.px(5), row.top(), pill.left() - row.left() - theme.px(9), row.height())
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.setFont(theme.font(12, strip.kind != "track"))
        painter.setPen(theme.colour("text" if strip.enabled else "quiet"))
        painter.drawText(name, middle | Qt.AlignmentFlag.AlignLeft, elided(painter, strip.name, name.width()))
        self._paint_state(painter, strip, pill)
        self._paint_plugins(painter, strip, bar)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("text"))
        painter.drawText(figure, middle | Qt.AlignmentFlag.AlignRight, self._model.figure(index))
        if roomy:
            self._paint_activity(painter, index.internalId(), activity)
        painter.restore()

    def _paint_state(self, painter: QPainter, strip: Strip, pill: QRectF) -> None:
        """The decision as a word in a frame; nothing where there is nothing to decide."""
        word = self._model.state_word(strip)
        if strip.kind != "track" and word == "live":
            return
        colour = {"live": "quiet", "pinned": "brass", "armed": "brick"}.get(word, "teal")
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour(colour))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(pill, pill.height() / 2, pill.height() / 2)
        painter.drawText(pill, Qt.AlignmentFlag.AlignCenter, elided(painter, word, pill.width() - 4))

    def _paint_plugins(self, painter: QPainter, strip: Strip, bar: QRectF) -> None:
        """The plugins in order, each as wide as it costs (or would): filled live, outlined frozen, hatched off."""
        dearest = self._model.dearest
        if self._model.at is None or dearest <= 0:
            return
        left = bar.left()
        for place, use in strip.places():
            width = bar.width() * self._model.ranking.uses.get(use.id, 0.0) / dearest
            area = QRectF(left, bar.top(), max(width - 1, 0.6), bar.height())
            colour = theme.family(use.family)
            painter.setPen(Qt.PenStyle.NoPen)
            if not strip.enabled or not use.enabled:
                painter.setBrush(theme.hatch(colour, 4))
            elif strip.is_frozen(place):
                painter.setPen(QPen(colour, 1))
                painter.setBrush(Qt.BrushStyle.NoBrush)
            else:
                painter.setBrush(theme.family_brush(use.family))
            painter.drawRect(area)
            left += width

    def _paint_activity(self, painter: QPainter, strip: int, area: QRectF) -> None:
        """When in the piece the strip sounds."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ground"))
        painter.drawRect(area)
        width = area.width() / BUCKETS
        colour = theme.colour("teal")
        for k, share in enumerate(self._model.activity[strip]):
            if share > 0.02:
                colour.setAlphaF(0.25 + 0.75 * float(share))
                painter.setBrush(colour)
                painter.drawRect(QRectF(area.left() + k * width, area.top(), width * 0.82, area.height()))


class TrackList(QFrame):
    """The list with its title, filter and order. `chosen` tells the ids of the selected strips."""

    chosen = Signal(list)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self.model = TrackModel(self)
        self._ids: tuple[str, ...] = ()
        self._is_choosing_again = False
        self.view = QTreeView()
        self.view.setModel(self.model)
        self.view.setItemDelegate(TrackDelegate(self.model, self.view))
        self.view.setHeaderHidden(True)
        self.view.setUniformRowHeights(True)
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.view.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.view.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.view.setIndentation(theme.px(12))
        self.view.setRootIsDecorated(False)
        self.view.setAccessibleName("Tracks by cost")
        self.view.selectionModel().selectionChanged.connect(self._selection_changed)
        on_key(self, Qt.Key.Key_Escape, self.clear_choice)
        self._title = Elided("Tracks by cost")
        self._title.setProperty("role", "title")
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Find")
        self.filter.setAccessibleName("Filter tracks by name")
        self.filter.setClearButtonEnabled(True)
        theme.fit(self.filter, lambda field: field.setMinimumWidth(theme.px(44)))
        theme.fit(self.filter, lambda field: field.setMaximumWidth(theme.px(110)))
        self.filter.textChanged.connect(self._filter)
        self.by_cost, self.by_bus = self._word("by cost", True), self._word("by bus", False)
        self.basis = QComboBox()
        for basis, words in BASES.items():
            self.basis.addItem(words, basis)
        self.basis.setAccessibleName("What the figures are of")
        self.basis.setToolTip("What the figures are of: the moment, each track's own peak, or the whole piece")
        self._title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        theme.fit(self._title, lambda title: title.setMinimumWidth(theme.px(40)))
        self.basis.currentIndexChanged.connect(self._rebase)
        self._legend = {family: Words() for family in FAMILIES}
        for mark in self._legend.values():
            mark.setTextFormat(Qt.TextFormat.RichText)
        self._lay_out()

    def _word(self, text: str, checked: bool) -> QPushButton:
        button = QPushButton(text)
        button.setProperty("role", "word")
        button.setCheckable(True)
        button.setChecked(checked)
        button.toggled.connect(self._reorder)
        return button

    def _lay_out(self) -> None:
        top = QHBoxLayout()
        top.addWidget(self._title, 1)
        for part in (self.basis, self.by_cost, self.by_bus, self.filter):
            top.addWidget(part)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 6, 6)
        column.setSpacing(4)
        column.addLayout(top)
        column.addWidget(self.view, 1)
        for label in self._legend.values():
            label.setProperty("role", "quiet")
        column.addLayout(Wrapping(*self._legend.values(), gap=theme.px(9)))

    def show_survey(self, of: Survey, at: Instant) -> None:
        self.model.show_survey(of, at)
        self._show_title(at)
        used = {use.family for strip in of.session.strips for use in strip.uses()}
        for family, label in self._legend.items():
            words = f"{theme.family_mark(family)} {family}"
            if label.text() != words:
                label.setText(words)
            label.setVisible(family in used)
        self._unfold()
        self._choose_again()

    def _unfold(self) -> None:
        """Shows all members of all buses; without buses above them there is nothing to unfold."""
        if self.by_bus.isChecked():
            self.view.expandAll()

    def show_instant(self, at: Instant) -> None:
        self.model.show_instant(at)
        self._show_title(at)

    def _show_title(self, at: Instant) -> None:
        basis: Basis = self.basis.currentData()
        where = {"moment": f"at {clock(at.second)}", "peak": "at their peak", "piece": "over the piece"}[basis]
        if basis == "piece" and self.model.stretch is not None:
            where = f"{clock(self.model.stretch[0])} to {clock(self.model.stretch[1])}"
        self._title.setText(f"Tracks by cost {where}")

    def show_stretch(self, stretch: Stretch | None) -> None:
        """Takes a stretch of the piece for what the figures are of; the moment again when it is let go."""
        self.model.stretch = stretch
        basis: Basis = "piece" if stretch is not None else "moment"
        self.basis.setCurrentIndex(self.basis.findData(basis))
        self._rebase()

    def _rebase(self) -> None:
        self.model.set_basis(self.basis.currentData())
        if self.model.at is not None:
            self._show_title(self.model.at)

    def _reorder(self) -> None:
        self.model.set_order(self.by_cost.isChecked(), self.by_bus.isChecked())
        self.view.setIndentation(theme.px(12) if self.by_bus.isChecked() else 0)
        self._unfold()
        self._choose_again()

    def _filter(self, text: str) -> None:
        self.model.set_filter(text)
        self._unfold()
        self._choose_again()

    def _selection_changed(self, now: QItemSelection, before: QItemSelection) -> None:
        if not self._is_choosing_again:
            self._choose(self._selected())

    def _selected(self) -> list[str]:
        return [index.data(STRIP_ROLE) for index in self.view.selectionModel().selectedRows()]

    def _choose(self, ids: Sequence[str]) -> None:
        self._ids = tuple(ids)
        self.chosen.emit(list(ids))

    def clear_choice(self) -> None:
        """Chooses no track, in sight or not (Escape)."""
        self.view.clearSelection()
        if self._ids:
            self._choose([])

    def show_chosen(self, ids: Sequence[str]) -> None:
        """Shows what has been chosen here or on another page, and brings it into view: nobody has to be told."""
        if set(ids) != set(self._ids):
            self._ids = tuple(ids)
            self._choose_again()
            if ids and (at := self.model.index_of(ids[0])).isValid():
                self.view.scrollTo(at)

    def _choose_again(self) -> None:
        """Where rows are others what is chosen stays so, also while it is out of sight."""
        at = {each: index for each in self._ids if (index := self.model.index_of(each)).isValid()}
        if at.keys() == set(self._selected()):
            return
        self._is_choosing_again = True
        choose_rows(self.view.selectionModel(), at.values())
        self._is_choosing_again = False

    def choose(self, strip_id: str) -> None:
        """Selects one strip and brings it into view."""
        index = self.model.index_of(strip_id)
        if index.isValid():
            self.view.setCurrentIndex(index)
            self.view.scrollTo(index)
