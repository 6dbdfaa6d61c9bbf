"""Measure: what will be measured and how often it is used, results as they land, failures with their reason."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QProgressBar, QPushButton, QSplitter, QWidget

from ...core.cards.card import CostCard, Effect, Made
from ...core.cards.comparison import lighter, variant_of
from ...core.cards.stand_ins import from_readings, standing_in, suggested, without_failure
from ...core.session.chain_edits import with_variant
from ...core.session.plugins import CardKey, PluginUse
from ...core.told import memory
from ...core.told.card_comparison import other_standards
from ...core.units import about, agreeing, compared, count
from ...probe import session_run
from ...probe.session_run import Job, Progress
from ...store.library import STAND_IN, TYPED
from ..background.desk import Desk
from ..look.panels import headed, panel
from ..look.sentence import Sentence
from ..look.theme import theme
from ..look.words import Words
from ..look.wrapping import Wrapping
from .card_table import CardTable
from .cost_card import CardView
from .measure_model import BROUGHT, COST, GRID, MeasureModel
from .measuring import Measuring
from .stand_ins_dialog import StandInsDialog
from .typed_figures import ElsewhereDialog

CARD_WIDTH = 360


class MeasurePage(QWidget):
    """The page. `state_changed` tells its state in a word, and a colour for it."""

    state_changed = Signal(str, str)
    # How many settings were measured before their plugin was updated.
    updated_changed = Signal(int)

    def __init__(self, desk: Desk, measuring: Measuring, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self.measuring = desk, measuring
        self.model = MeasureModel(self)
        self.sentence = Sentence()
        self.table = CardTable(self.model)
        self.card, self.beside = CardView("Keep beside"), CardView("Put away")
        self.elsewhere = QPushButton("Figures from elsewhere…")
        self.stop = QPushButton("Pause")
        self.again = QPushButton("Measure all again")
        self.retry = QPushButton("Try the failed ones again")
        self.only = QPushButton("Measure only this")
        self.stand_ins = QPushButton("Stand-ins…")
        self.finder = QLineEdit()
        self.finder.setPlaceholderText("Find")
        self.finder.setAccessibleName("Find plugins and settings by name")
        self.finder.setClearButtonEnabled(True)
        theme.fit(self.finder, lambda field: field.setMaximumWidth(theme.px(130)))
        self.cancel = QPushButton("Cancel")
        self.bar = QProgressBar()
        self.left = Words()
        self._jobs: list[Job] = []
        self._done_cells = 0
        self._forget_first()
        self._outcome = ""
        self._trying: PluginUse | None = None
        self._tick = QTimer(self)
        self._tick.setInterval(500)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        self.bar.setTextVisible(False)
        self.left.setProperty("role", "quiet")
        buttons = Wrapping(
            self.left, self.stop, self.cancel, self.stand_ins, self.elsewhere, self.only, self.retry, self.again,
            at_end=True,
        )  # fmt: skip
        below = QHBoxLayout()
        below.addWidget(self.finder, 0, Qt.AlignmentFlag.AlignTop)
        below.addLayout(buttons, 1)
        frame, inside = panel()
        inside.addWidget(self.table, 1)
        inside.addWidget(self.bar)
        inside.addLayout(below)
        halves = QSplitter(Qt.Orientation.Horizontal)
        halves.addWidget(frame)
        halves.addWidget(self.card)
        halves.addWidget(self.beside)
        self.beside.hide()
        self.beside.settings.setEnabled(False)
        for number, share in enumerate((3, 1, 1)):
            halves.setStretchFactor(number, share)
        halves.setChildrenCollapsible(False)
        halves.setSizes([850, 420, 0])
        self.halves = halves
        headed(self, self.sentence).addWidget(halves, 1)

    def _connect(self) -> None:
        self.sentence.pressed.connect(self.start)
        self.cancel.clicked.connect(self.measuring.cancel)
        self.again.clicked.connect(lambda: self.start(again=True))
        self.retry.clicked.connect(self.start_failed)
        self.only.clicked.connect(self.start_chosen)
        self.stand_ins.clicked.connect(self.ask_stand_ins)
        self.finder.textChanged.connect(self.table.look_for)
        self.table.selectionModel().selectionChanged.connect(lambda *_: self._show_only())
        self.measuring.started.connect(self._show_started)
        self.measuring.progressed.connect(self._show_progress)
        self.measuring.ended.connect(self._show_ended)
        self.measuring.tried.connect(self._take_tried)
        self.measuring.tried_all.connect(self._end_trying)
        self.stop.clicked.connect(self.pause)
        self.elsewhere.clicked.connect(self.ask_elsewhere)
        self.card.pressed.connect(self.keep_beside)
        self.beside.pressed.connect(self.put_away)
        self.card.settings.try_wanted.connect(self.try_settings)
        self.card.settings.variant_wanted.connect(self.make_variant)
        self._tick.timeout.connect(self._show_time)
        self.table.selectionModel().currentRowChanged.connect(self._show_card)
        self._desk.opened.connect(self._show_session)
        self._desk.opened.connect(self._look_at_files)
        self._desk.recomputed.connect(self._show_buffer)

    def showEvent(self, event: QShowEvent) -> None:
        self._look_at_files()
        super().showEvent(event)

    def _look_at_files(self) -> None:
        """Whether plugins were updated since they were measured; looked at off the window's thread."""
        cards = dict(self._desk.cards)
        failure = "whether plugins were updated could not be found out"
        self._desk.jobs.run(lambda: session_run.of_other_files(cards), self._take_outdated, failure)

    def _take_outdated(self, found: dict[CardKey, Made]) -> None:
        if found != self.model.outdated:
            self.model.outdated = found
            self.model.show_cards(self._desk.cards)
            self._show_state()

    # What the user does

    def start(self, again: bool = False) -> None:
        """Measures what is not known on this computer, or else what others disturbed; with `again`, everything."""
        document = self._desk.document
        if document is None:
            return
        known = without_failure(self._desk.cards, self._desk.cards) if again else dict(self._desk.cards)
        todo = session_run.jobs(document.session, known, again=again) or session_run.doubtful(document.session, known)
        self.measuring.start(todo, known, document.buffer)

    def start_failed(self) -> None:
        """Measures those again that have failed."""
        document = self._desk.document
        if document is None:
            return
        known = without_failure(self._desk.cards, self._desk.cards)
        failed = {k for k, c in self._desk.cards.items() if c.failure}
        todo = [job for job in session_run.jobs(document.session, known) if job.key in failed]
        self.measuring.start(todo, known)

    def start_chosen(self) -> None:
        """Measures what is chosen, and what of it is known once more."""
        document, keys = self._desk.document, set(self.table.chosen())
        if document is not None and keys:
            known = without_failure(self._desk.cards, keys)
            todo = [job for job in session_run.jobs(document.session, known, again=True) if job.key in keys]
            self.measuring.start(todo, known, document.buffer)

    def _show_only(self) -> None:
        """What measuring only the chosen ones is called."""
        several = len(self.table.chosen())
        self.only.setText(f"Measure only these {several}" if several > 1 else "Measure only this")
        self.only.setVisible(several > 0 and self._is_free)

    @property
    def _is_free(self) -> bool:
        """Whether nothing is measured or tried."""
        return not self._tick.isActive() and self._trying is None

    def pause(self) -> None:
        """Makes the run stand still, or go on."""
        self.measuring.pause(not self.measuring.is_paused)
        self._show_state()

    def _row(self) -> tuple[CardKey, PluginUse] | None:
        row = self.table.currentIndex().row()
        return self.model.rows[row][:2] if 0 <= row < len(self.model.rows) else None

    def try_settings(self) -> None:
        """Tries single settings of the chosen plugin."""
        document, row = self._desk.document, self._row()
        if document is not None and row is not None and not self.measuring.is_running:
            self._trying = row[1]
            self.measuring.try_settings(row[1], document.session.rate, document.buffer, self._desk.cards.get(row[0]))
            self._show_card()
            self._show_state()

    def _take_tried(self, card: CostCard) -> None:
        self._desk.take_card(card)
        self.model.show_cards(self._desk.cards, card.key)
        self._show_card()

    def _end_trying(self, outcome: str) -> None:
        self._trying = None
        self._outcome = outcome
        self._show_card()
        self._show_state()

    def make_variant(self, effects: list[Effect]) -> None:
        """Takes the chosen values into the session as another setting of this plugin."""
        document, row = self._desk.document, self._row()
        if document is not None and row is not None and effects:
            variant = variant_of(row[1], effects)
            self._desk.edit(f"variant {variant.name}", with_variant(document.session, variant))

    def keep_beside(self) -> None:
        """Shows the chosen card a second time, where it stays while another one is chosen."""
        document, row = self._desk.document, self._row()
        if document is None or row is None:
            return
        self.beside.show_card(row[1], self._desk.cards.get(row[0]), document.session.rate, document.buffer)
        self.beside.show()
        self.table.setColumnHidden(GRID, True)  # the cards say more, and need the room
        self.halves.setSizes([self.halves.width() - 2 * theme.px(CARD_WIDTH), *[theme.px(CARD_WIDTH)] * 2])

    def put_away(self) -> None:
        """Takes the card that was kept away again."""
        self.beside.hide()
        self.table.setColumnHidden(GRID, False)

    def ask_elsewhere(self) -> None:
        """Asks for readings or a stand-in for the chosen plugin."""
        document, row = self._desk.document, self._row()
        if document is None or row is None:
            return
        uses = {key: use for key, use, _ in self.model.rows}
        dialog = ElsewhereDialog(row[1], uses, self._desk.cards, document.buffer, self)
        rate = document.session.rate
        dialog.typed.connect(lambda readings: self.take_elsewhere(from_readings(row[1], readings, rate), TYPED))
        dialog.stands_in.connect(lambda other: self.take_elsewhere(standing_in(row[1], other), STAND_IN))
        dialog.open()

    def ask_stand_ins(self) -> None:
        """Asks in one list what stands in for each plugin without figures."""
        document = self._desk.document
        if document is not None:
            dialog = StandInsDialog(suggested(document.session.cards_needed(), self._desk.cards), self)
            dialog.chosen.connect(self.take_stand_ins)
            dialog.open()

    def take_stand_ins(self, chosen: list[tuple[PluginUse, PluginUse]]) -> None:
        """Takes cards for those that have none, each from the other."""
        for use, other in chosen:
            card = standing_in(use, self._desk.cards[other.card_key()])
            self.measuring.keep(card, STAND_IN)
            self._desk.take_card(card)
        self._desk.refresh()

    def take_elsewhere(self, card: CostCard, source: str) -> None:
        """Takes figures from elsewhere into the library and the load."""
        self.measuring.keep(card, source)
        self._desk.take_card(card)
        self._desk.refresh()

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
        if document is not None and document.session is not self.model.session:
            self.model.show_session(document.session, self._desk.cards, document.buffer)
        self.model.show_cards(self._desk.cards)
        self._show_card()
        self._show_state()

    def choose_use(self, use_id: str) -> None:
        """Chooses the row of a plugin's card."""
        uses = [use for strip in self.model.session.strips for use in strip.uses()] if self.model.session else []
        for use in uses:
            if use.id == use_id:
                self.table.choose([use.card_key()])

    def _show_card(self) -> None:
        """The card of the current row."""
        row = self.table.currentIndex().row()
        document = self._desk.document
        if row < 0 or document is None:
            self.card.show_nothing()
            return
        use, rate, buffer = self.model.rows[row][1], document.session.rate, document.buffer
        families = {(u.plugin.standard, u.plugin.identifier): u.family for _, u, _ in self.model.rows}
        better = lighter(self._desk.cards, families, use, rate, buffer)
        card = self.model.card(row)
        more = other_standards(self._desk.cards, card, rate, buffer) if card is not None else []
        self.card.show_card(use, card, rate, buffer, better, use == self._trying, more)

    def _show_started(self, todo: list[Job]) -> None:
        self._jobs, self._done_cells, self._outcome = todo, 0, ""
        self._forget_first()
        self.model.waiting = {job.key for job in todo}
        self._begin(todo[0])
        self.bar.setRange(0, sum(job.steps for job in todo))
        self.bar.setValue(0)
        self._tick.start()
        self._show_state()

    def _forget_first(self) -> None:
        """No first figures yet, and nothing finished, in this run."""
        self._tried_first: set[CardKey] = set()
        self._finished: set[CardKey] = set()
        # How many cells are measured once more when all else is, and how many of them were.
        self._more, self._more_done = 0, 0
        self._first_is_over, self._first_seconds = False, 0.0

    def _begin(self, job: Job) -> None:
        self.model.current = job.key
        row = self.model.row_of(job.key)
        self.table.scrollTo(self.model.index(row, 0))

    def _show_progress(self, step: Progress) -> None:
        document = self._desk.document
        if document is None or step.job.key not in document.session.cards_needed():
            return  # another session was opened meanwhile
        self._desk.take_card(step.card)
        is_first = step.cell is not None and step.cell.provenance == "first"
        if is_first:
            self._tried_first.add(step.job.key)
            self.model.current = step.job.key
        elif not step.finished and step.job.key != self.model.current:
            self._begin(step.job)
        # What fails among the first is told to be finished when they are through.
        goes_on = is_first or (bool(step.card.failure) and not step.finished)
        if self._tried_first and not self._first_is_over and not goes_on:
            # From now on every load rests on figures of this computer.
            self._first_is_over, self._first_seconds = True, self.measuring.seconds
            self._desk.refresh()
        if step.finished:
            self._finished.add(step.job.key)
            self.model.waiting.discard(step.job.key)
            self._done_cells = sum(job.steps for job in self._jobs if job.key in self._finished)
            # Which one comes next is told by what is heard of it first.
            self.model.current = None
            if self._desk.is_idle and not self._desk.wants_peek:
                self._desk.refresh()
        elif step.again:
            self.bar.setMaximum(self.bar.maximum() + step.again - self._more)
            self._more, self._more_done = step.again, self._more_done + 1
            self._done_cells += 1
        elif step.cell is not None and not is_first:
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
        self.model.sort_again()
        self._show_state()
        self._desk.refresh()

    def _show_time(self) -> None:
        """How much time is left, from what the run has done so far."""
        if self._done_cells >= 4:
            spent = self.measuring.seconds - self._first_seconds
            seconds = spent / self._done_cells * (self.bar.maximum() - self._done_cells)
            words = f"{about(seconds)} left"
        else:
            words = "finding out how long it takes"
        self.left.setText(words)

    def _show_state(self) -> None:
        """The sentence, the buttons, and the page's state in a word."""
        counts = self.model.counts()
        total, here = len(self.model.rows), counts.get("measured", 0)
        failed, running = counts.get("failed", 0), self._tick.isActive()
        missing = total - here - failed
        for part in (self.bar, self.left, self.stop):
            part.setVisible(running)
        is_free = self._is_free
        self.cancel.setVisible(not is_free)
        self.card.settings.attempt.setEnabled(is_free)
        self.stop.setText("Go on" if self.measuring.is_paused else "Pause")
        self.elsewhere.setVisible(is_free and total > 0)
        self.again.setVisible(is_free and total > missing)
        self.retry.setVisible(is_free and failed > 0)
        lacking = counts.get("missing", 0) + failed
        self.stand_ins.setVisible(is_free and 0 < lacking < total)
        self._show_only()
        failures = f" {failed} failed; the table says why." if failed else ""
        if running:
            self._say_running(failures)
        elif self._trying is not None:
            headline = f"Trying the settings of {self._trying.label}, one at a time."
            self.sentence.say(headline, "It takes up to half a minute; what is found is kept as it lands.", "quiet")
        elif missing:
            headline = f"{missing} of {total} plugin settings are not measured on this computer."
            samples = counts.get("sample", 0)
            basis = f" Until then, sample figures stand in for {samples} of them." if samples else ""
            brought = sum(counts.get(each, 0) for each in BROUGHT)
            if brought:
                basis += f" Figures from elsewhere stand in for {brought} of them."
            earlier = counts.get("earlier", 0)
            if earlier:
                basis += f" {earlier} were measured in an earlier way, which was not right for some plugins."
            updated = counts.get("updated", 0)
            if updated:
                basis += f" {agreeing(updated, 'is of a plugin', 'are of plugins')} that was updated since."
            advice = f"{self._outcome}{failures}{basis} What is known already is left out."
            self.sentence.say(headline, advice.strip(), "tight", f"Measure {missing}")
        else:
            headline = f"All {total} plugin settings have been tried on this computer."
            doubts = [doubt for row in range(total) if (doubt := self.model.doubt(row)) > 1]
            advice = f"{self._outcome}{failures}".strip() or "Balance rests on these figures."
            if doubts:
                advice += f" Others shared the core while {count(len(doubts), 'setting')} played: figures may be up to"
                advice += f" {compared(max(doubts) - 1)} too high. Best measured again when little else runs."
            advice += self._memory()
            again = f"Measure {len(doubts)} again" if doubts else ""
            self.sentence.say(headline, advice, "tight" if doubts else "fits", again)
        self.updated_changed.emit(counts.get("updated", 0))
        self.state_changed.emit(f"{here} of {total}", "brick" if failed else "teal" if here == total else "quiet")

    def _memory(self) -> str:
        """What all plugins keep in memory, how long they take to load, and which take more and more."""
        of = self._desk.survey
        said = (memory.sentence(of), memory.loading(of), memory.growing(of.memory)) if of is not None else ()
        return "".join(f" {each}" for each in said if each)

    def _say_running(self, failures: str) -> None:
        """What a run is doing, and what is there already."""
        doing = "Paused" if self.measuring.is_paused else "Measuring"
        headline = f"{doing}: {len(self._finished)} of {count(len(self._jobs), 'plugin')} done."
        advice = f"Each plugin runs in a process of its own; results are kept as they land.{failures}"
        if self._more and not self.measuring.is_paused:
            headline = f"All are measured. Once more: {self._more_done} of {count(self._more, 'figure')}."
            advice = f"Others shared the core meanwhile; the better figure of both is kept.{failures}"
        elif self._first_is_over:
            advice = f"First figures of all are there: Balance rests on them. {advice}"
        elif self._tried_first and not self.measuring.is_paused:
            headline = f"First figures: {len(self._tried_first)} of {count(len(self._jobs), 'plugin')} tried."
            advice = "A fraction of a second for each at this buffer size; then all are measured thoroughly."
        self.sentence.say(headline, advice, "quiet")
