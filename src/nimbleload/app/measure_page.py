"""Measure: what will be measured and how often it is used, results as they land, failures with their reason."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QProgressBar,
    QPushButton,
    QSplitter,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from ..core.session import BUFFER_SIZES
from ..probe import session_run
from ..probe.session_run import Job, Progress
from .card_view import CardView
from .desk import Desk
from .measure_model import COST, GRID, PLUGIN, SETTING, STATE, USED, MeasureModel
from .measuring import Measuring
from .picture import elided
from .sentence import Sentence
from .theme import theme

Index = QModelIndex | QPersistentModelIndex
STATE_COLOURS = {"measured": "teal", "failed": "brick", "measuring": "brass", "sample": "quiet"}


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
            status = self._model.status(index.row())
            colour = STATE_COLOURS.get(status, "quiet") if index.column() == STATE else "text"
            if index.column() in (SETTING, USED):
                colour = "quiet"
            painter.setPen(theme.colour(colour))
            painter.setFont(theme.font(12))
            side = Qt.AlignmentFlag.AlignRight if index.column() in (USED, COST) else Qt.AlignmentFlag.AlignLeft
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


class MeasurePage(QWidget):
    """The page. `state_changed` tells its state in a word, and a colour for it."""

    state_changed = Signal(str, str)

    def __init__(self, desk: Desk, measuring: Measuring, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self.measuring = desk, measuring
        self.model = MeasureModel(self)
        self.sentence = Sentence()
        self.table = QTableView()
        self.card = CardView()
        self.again = QPushButton("Measure all again")
        self.retry = QPushButton("Try the failed ones again")
        self.cancel = QPushButton("Cancel")
        self.bar = QProgressBar()
        self.left = QLabel()
        self._jobs: list[Job] = []
        self._done = 0
        self._done_cells = 0
        self._outcome = ""
        self._tick = QTimer(self)
        self._tick.setInterval(500)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        table = self.table
        table.setModel(self.model)
        table.setItemDelegate(CellDelegate(self.model, table))
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.verticalHeader().setVisible(False)
        table.setShowGrid(False)
        table.setAccessibleName("Cost cards of this session")
        table.setTabKeyNavigation(False)
        header = table.horizontalHeader()
        header.setHighlightSections(False)
        for column in (PLUGIN, SETTING, USED, STATE, GRID, COST):
            mode = QHeaderView.ResizeMode.Stretch if column in (SETTING, STATE) else QHeaderView.ResizeMode.Interactive
            header.setSectionResizeMode(column, mode)
        self.size_columns()
        self.bar.setTextVisible(False)
        self.left.setProperty("role", "quiet")
        buttons = QHBoxLayout()
        buttons.addWidget(self.bar, 1)
        buttons.addStretch()
        for part in (self.left, self.cancel, self.retry, self.again):
            buttons.addWidget(part)
        frame = QFrame()
        frame.setProperty("role", "panel")
        inside = QVBoxLayout(frame)
        inside.setContentsMargins(10, 8, 10, 8)
        inside.addWidget(table, 1)
        inside.addLayout(buttons)
        page = QVBoxLayout(self)
        page.setContentsMargins(8, 2, 8, 8)
        page.setSpacing(7)
        page.addWidget(self.sentence)
        halves = QSplitter(Qt.Orientation.Horizontal)
        halves.addWidget(frame)
        halves.addWidget(self.card)
        halves.setStretchFactor(0, 3)
        halves.setStretchFactor(1, 1)
        halves.setChildrenCollapsible(False)
        halves.setSizes([900, 370])
        page.addWidget(halves, 1)

    def size_columns(self) -> None:
        """Widths and heights for the text size in force."""
        for column, width in ((PLUGIN, 120), (USED, 50), (GRID, 170), (COST, 100)):
            self.table.setColumnWidth(column, theme.px(width))
        self.table.verticalHeader().setDefaultSectionSize(theme.px(25))

    def _connect(self) -> None:
        self.sentence.pressed.connect(self.start)
        self.cancel.clicked.connect(self.measuring.cancel)
        self.again.clicked.connect(lambda: self.start(again=True))
        self.retry.clicked.connect(self.start_failed)
        self.measuring.started.connect(self._show_started)
        self.measuring.progressed.connect(self._show_progress)
        self.measuring.ended.connect(self._show_ended)
        self._tick.timeout.connect(self._show_time)
        self.table.selectionModel().currentRowChanged.connect(self._show_card)
        self._desk.opened.connect(self._show_session)
        self._desk.recomputed.connect(self._show_buffer)

    # What the user does

    def start(self, again: bool = False) -> None:
        """Measures what is not known on this computer; with `again`, everything."""
        document = self._desk.document
        if document is None:
            return
        known = {k: c for k, c in self._desk.cards.items() if not (again and c.failure)}
        self.measuring.start(session_run.jobs(document.session, known, again=again), known)

    def start_failed(self) -> None:
        """Measures those again that have failed."""
        document = self._desk.document
        if document is None:
            return
        known = {k: c for k, c in self._desk.cards.items() if not c.failure}
        failed = {k for k, c in self._desk.cards.items() if c.failure}
        todo = [job for job in session_run.jobs(document.session, known) if job.key in failed]
        self.measuring.start(todo, known)

    # What is shown

    def _show_session(self) -> None:
        document = self._desk.document
        if document is None:
            return
        self.measuring.cancel()
        self._outcome = ""
        self.model.show_session(document.session, self._desk.cards, document.buffer)
        self.card.show_nothing()
        self._show_state()

    def _show_buffer(self) -> None:
        document = self._desk.document
        if document is not None and document.buffer != self.model.buffer:
            self.model.buffer = document.buffer
            self.model.headerDataChanged.emit(Qt.Orientation.Horizontal, COST, COST)
        self.model.show_cards(self._desk.cards)
        self._show_card()
        self._show_state()

    def _show_card(self) -> None:
        """The card of the current row."""
        row = self.table.currentIndex().row()
        document = self._desk.document
        if row < 0 or document is None:
            self.card.show_nothing()
            return
        self.card.show_card(self.model.rows[row][1], self.model.card(row), document.session.rate, document.buffer)

    def _show_started(self, todo: list[Job]) -> None:
        self._jobs, self._done, self._done_cells, self._outcome = todo, 0, 0, ""
        self.model.waiting = {job.key for job in todo}
        self._begin(todo[0])
        self.bar.setRange(0, sum(job.steps for job in todo))
        self.bar.setValue(0)
        self._tick.start()
        self._show_state()

    def _begin(self, job: Job) -> None:
        self.model.current = job.key
        self.model.waiting.discard(job.key)
        row = self.model.row_of(job.key)
        self.table.scrollTo(self.model.index(row, 0))

    def _show_progress(self, step: Progress) -> None:
        document = self._desk.document
        if document is None or step.job.key not in document.session.card_keys():
            return  # another session was opened meanwhile
        self._desk.take_card(step.card)
        if step.finished:
            self._done += 1
            self._done_cells = sum(job.steps for job in self._jobs[: self._done])
            self.model.current = None
            if self._done < len(self._jobs):
                self._begin(self._jobs[self._done])
        elif step.cell is not None:
            self._done_cells += 1
        self.bar.setValue(self._done_cells)
        self.model.show_cards(self._desk.cards, step.job.key)
        if self.model.row_of(step.job.key) == self.table.currentIndex().row():
            self._show_card()
        self._show_state()

    def _show_ended(self, outcome: str) -> None:
        self._tick.stop()
        self._outcome = outcome
        self.model.current, self.model.waiting = None, set()
        self.model.show_cards(self._desk.cards)
        self._show_state()
        self._desk.refresh()

    def _show_time(self) -> None:
        """How much time is left, from what the run has done so far."""
        if self._done_cells >= 4:
            seconds = self.measuring.seconds / self._done_cells * (self.bar.maximum() - self._done_cells)
            words = f"about {seconds / 60:.0f} min left" if seconds >= 90 else f"about {seconds:.0f} s left"
        else:
            words = "finding out how long it takes"
        self.left.setText(words)

    def _show_state(self) -> None:
        """The sentence, the buttons, and the page's state in a word."""
        counts = self.model.counts()
        total, here = len(self.model.rows), counts.get("measured", 0)
        failed, running = counts.get("failed", 0), self._tick.isActive()
        missing = total - here - failed
        for part in (self.bar, self.left, self.cancel):
            part.setVisible(running)
        self.again.setVisible(not running and total > missing)
        self.retry.setVisible(not running and failed > 0)
        failures = f" {failed} failed; the table says why." if failed else ""
        if running:
            headline = f"Measuring: {self._done} of {len(self._jobs)} plugins done."
            advice = f"Each plugin runs in a process of its own; results are kept as they land.{failures}"
            self.sentence.say(headline, advice, "quiet")
        elif missing:
            headline = f"{missing} of {total} plugin settings are not measured on this computer."
            samples = counts.get("sample", 0)
            basis = f" Until then, sample figures stand in for {samples} of them." if samples else ""
            advice = f"{self._outcome}{failures}{basis} What is known already is left out."
            self.sentence.say(headline, advice.strip(), "tight", f"Measure {missing}")
        else:
            headline = f"All {total} plugin settings have been tried on this computer."
            self.sentence.say(
                headline, f"{self._outcome}{failures}".strip() or "Balance rests on these figures.", "fits"
            )
        self.state_changed.emit(f"{here} of {total}", "brick" if failed else "teal" if here == total else "quiet")
