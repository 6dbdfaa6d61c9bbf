"""Prove: the plan on real threads against real deadlines, and how well the prediction held."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDoubleSpinBox,
    QHBoxLayout,
    QHeaderView,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from ...core.decisions.decision import Plan
from ...core.load.in_part import Part, in_part
from ...core.load.rehearsal import Prediction, Rehearsal
from ...core.survey import Instant, Survey
from ...core.told.rehearsal import (
    StripCheck,
    checks,
    conditions,
    followed,
    helped_words,
    missed_words,
    off_by,
    offered,
    taken,
    verdict,
    why_late,
    without_plan,
)
from ...core.units import clock, count, microseconds, percent
from ...store.this_computer import this_computer
from ..background.desk import Desk
from ..background.rehearsing import Rehearsing
from ..look.deadline_view import DeadlineView
from ..look.panels import dress_table, headed, panel, size_table
from ..look.sentence import Sentence
from ..look.words import Words

HEADINGS = ("Track", "Predicted", "Rehearsed", "Off by", "Why")
SECONDS = 10.0
BEFORE = "That was before the last changes."


class ProvePage(QWidget):
    """The page. `state_changed` tells its state in a word, and a colour for it."""

    state_changed = Signal(str, str)

    def __init__(self, desk: Desk, rehearsing: Rehearsing, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self.rehearsing = desk, rehearsing
        self.outcome: Rehearsal | None = None
        # What is rehearsed, or was last; and whether the next outcome is that of the same without its plan, which is
        # shown behind the one that is there.
        self._rehearsed: Survey | None = None
        self._waits_for_before = False
        self._advice = ""
        self.predicted: Prediction | None = None
        self.checks: list[StripCheck] = []
        self.sentence = Sentence()
        self.blocks = DeadlineView()
        self.table = QTableWidget(0, len(HEADINGS))
        self.bar = QProgressBar()
        self.news, self.words = Words(), Words()
        self.seconds, self.cores = QDoubleSpinBox(), QSpinBox()
        self.cancel, self.take = QPushButton("Cancel"), QPushButton("Take the difference into the prediction")
        self.without = QPushButton("Without the plan, too")
        self._lay_out()
        self._connect()
        self._show_nothing()

    def _lay_out(self) -> None:
        self.seconds.setRange(1, 600)
        self.seconds.setValue(SECONDS)
        self.seconds.setSuffix(" s")
        self.seconds.setAccessibleName("How long to rehearse")
        here = this_computer().cores
        self.cores.setRange(1, here)
        self.cores.setValue(here)
        self.cores.setSuffix(f" of {here} cores")
        self.cores.setAccessibleName("On how many cores")
        name = "Predicted against rehearsed, track by track"
        dress_table(self.table, HEADINGS, name, Qt.AlignmentFlag.AlignLeft)
        self.table.setShowGrid(False)
        size_table(self.table, 22, dict(enumerate((190, 100, 100, 110))))
        self.table.horizontalHeader().setSectionResizeMode(4, QHeaderView.ResizeMode.Stretch)
        self.words.setWordWrap(True)
        self.news.setProperty("role", "quiet")
        self.bar.setTextVisible(False)
        row = QHBoxLayout()
        for part in (Words("Rehearse for"), self.seconds, Words("on"), self.cores):
            row.addWidget(part)
        row.addWidget(self.bar, 1)
        row.addWidget(self.news)
        row.addStretch(1)
        row.addWidget(self.without)
        row.addWidget(self.take)
        row.addWidget(self.cancel)
        frame, inside = panel()
        inside.addLayout(row)
        inside.addWidget(self.blocks, 2)
        inside.addWidget(self.words)
        inside.addWidget(self.table, 3)
        headed(self, self.sentence).addWidget(frame, 1)

    def _connect(self) -> None:
        self.sentence.pressed.connect(self.start)
        self.cancel.clicked.connect(self.rehearsing.cancel)
        self.take.clicked.connect(self.take_over)
        self.without.clicked.connect(self.start_without_plan)
        self.rehearsing.loading.connect(self._show_loading)
        self.rehearsing.playing.connect(self._show_playing)
        self.rehearsing.ended.connect(self._show_outcome)
        self.rehearsing.failed.connect(self._show_failure)
        self.sentence.follow_opening(self._desk)
        self._desk.opened.connect(self._show_nothing)
        self._desk.recomputed.connect(self._show_offer)
        self._desk.moved.connect(self._show_offer)
        self.cores.valueChanged.connect(self._show_offer)

    # What the user does

    def start(self) -> None:
        """Rehearses the chosen moment with the plan, at the chosen buffer size."""
        of, at = self._desk.survey, self._desk.instant
        if of is None or at is None or self.rehearsing.is_running:
            return
        self.outcome, self.checks, self._waits_for_before = None, [], False
        self.table.setRowCount(0)
        self.blocks.show_loads((), 1.0)
        self.words.clear()
        self._rehearsed = of
        self._show_running("Loading the plugins.", "Each of the session's plugins gets an instance of its own.")
        self._rehearse(of, at.second)

    def start_without_plan(self) -> None:
        """Rehearses the moment that was rehearsed last without the plan, to be seen behind it."""
        of, outcome = self._rehearsed, self.outcome
        if of is not None and outcome is not None and not self.rehearsing.is_running:
            self._waits_for_before = True
            self._show_running("Loading the plugins.", "The same moment without the plan.")
            self._rehearse(of, outcome.second, Plan())

    def _rehearse(self, of: Survey, second: float, plan: Plan | None = None) -> None:
        self.rehearsing.start(of, second, self.cores.value(), self.seconds.value(), plan, self._desk.path)

    def _part_of(self, of: Survey, at: Instant) -> Part | None:
        """What so many cores as are chosen can play of a moment; None if they can play all of it."""
        return in_part(of.planned.session, at.block, of.deadline, self.cores.value())

    def take_over(self) -> None:
        """Takes what the rehearsal has taught into the prediction, marked as such."""
        if self.outcome is not None and self.predicted is not None:
            self._desk.learn(self.predicted, self.outcome)

    # What is shown

    def _show_nothing(self) -> None:
        self.rehearsing.cancel()
        self.outcome, self.checks = None, []
        self.table.setRowCount(0)
        self.blocks.show_loads((), 1.0)
        self.words.setText(
            "A rehearsal loads the session's plugins and plays them on real threads against real deadlines, "
            "with test signals where tracks sound. It shows whether the prediction holds on this computer."
        )
        self._waits_for_before = False
        for part in (self.bar, self.news, self.cancel, self.take, self.without):
            part.hide()
        self.state_changed.emit("not yet", "quiet")
        self._show_offer()

    def _show_offer(self) -> None:
        """Which moment would be rehearsed, while nothing else is to be said."""
        of, at = self._desk.survey, self._desk.instant
        if of is None or at is None or self.rehearsing.is_running:
            return
        if self.outcome is not None:
            if not self._desk.is_peeking:
                self._say(self.outcome)
            return
        plan = " with the plan" if of.plan.decisions else ""
        part = self._part_of(of, at)
        strips = of.planned.session.strips
        uses = sum(len(strip.live_uses()) for strip in strips if part is None or strip.id in part.ids)
        plugins = count(uses, "plugin")
        advice = f"{plugins} would run on this computer's cores, in real time if the system allows it."
        advice = f"{offered(part, self.cores.value())} {advice}" if part is not None else advice
        self.sentence.say(f"Rehearse {clock(at.second)}{plan} at {of.buffer} samples.", advice, "quiet", "Rehearse")

    def _show_running(self, headline: str, advice: str) -> None:
        self.sentence.say(headline, advice, "quiet")
        for part in (self.bar, self.news, self.cancel):
            part.show()
        for part in (self.take, self.without):
            part.hide()
        self.state_changed.emit("rehearsing", "brass")

    def _show_loading(self, done: int, total: int, name: str) -> None:
        self.bar.setRange(0, total)
        self.bar.setValue(done)
        self.news.setText(f"{done} of {total}: {name}")

    def _show_playing(self, done: int, total: int, missed: int, load: float) -> None:
        words = f"The last blocks took {percent(load)}; {missed_words(missed)}."
        self._show_running("Playing against the clock.", words)
        self.bar.setRange(0, total)
        self.bar.setValue(done)
        self.news.setText(f"{done} of {total} blocks")

    def _show_failure(self, reason: str) -> None:
        self._waits_for_before = False
        for part in (self.bar, self.news, self.cancel):
            part.hide()
        self.sentence.say("No outcome.", reason, "overload", "Rehearse again")
        self.state_changed.emit("no outcome", "brick")

    def _show_outcome(self, outcome: Rehearsal, predicted: Prediction, of: Survey, part: Part | None) -> None:
        if self._waits_for_before and self.outcome is not None and self.predicted is not None:
            self._waits_for_before = False
            self._say_outcome(self.outcome, f"{taken(self.predicted, self.outcome)} {without_plan(outcome)}")
            self.blocks.show_behind(outcome.loads, "without the plan")
            return
        self.outcome, self.predicted = outcome, predicted
        self._say_outcome(outcome, taken(predicted, outcome))
        self.blocks.show_loads(outcome.loads, predicted.typical)
        said = [followed(part, predicted, outcome)] if part is not None else []
        said = [*why_late(of.planned.session, outcome), *helped_words(of.planned.session, outcome), *said]
        self.words.setText("\n".join([*said, *conditions(predicted, outcome)]))
        self.checks = checks(of.planned.session, predicted, outcome)
        self._fill_table(outcome)
        self.without.setVisible(self._rehearsed is not None and bool(self._rehearsed.plan.decisions))

    def _say_outcome(self, outcome: Rehearsal, advice: str) -> None:
        """The sentence, the buttons and the page's state for an outcome."""
        for each in (self.bar, self.news, self.cancel, self.without):
            each.hide()
        self.take.show()
        self._advice = advice
        self._say(outcome)

    def _say(self, outcome: Rehearsal) -> None:
        """What came out; of what has been changed since it says nothing."""
        headline, tone, state, colour = verdict(outcome), "fits", "held", "teal"
        if outcome.missed:
            tone, state, colour = "overload", f"missed {outcome.missed}", "brick"
        if self._is_of_before():
            headline, tone, state, colour = f"{headline} {BEFORE}", "quiet", "before changes", "quiet"
        self.sentence.say(headline, self._advice, tone, "Rehearse again")
        self.state_changed.emit(state, colour)

    def _is_of_before(self) -> bool:
        """Whether tracks, plan or buffer size are others than those that were rehearsed. What a rehearsal has taught
        about the host is no such change."""
        of, then = self._desk.survey, self._rehearsed
        if of is None or then is None:
            return False
        is_same = of.session.strips is then.session.strips and of.buffer == then.buffer
        return not is_same or of.plan.decisions != then.plan.decisions

    def _fill_table(self, outcome: Rehearsal) -> None:
        self.table.setRowCount(len(self.checks))
        for row, check in enumerate(self.checks):
            times = microseconds(check.predicted), microseconds(check.rehearsed)
            texts = (check.name, *times, off_by(-check.off), check.reason)
            for column, text in enumerate(texts):
                self.table.setItem(row, column, QTableWidgetItem(text))
