"""Machine: is it the computer? What is seen, why it matters, what to do; and what load it holds at all."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace
from PySide6.QtCore import Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from ...core.computer.ceiling import TRIALS, Ceiling
from ...core.computer.facts import Facts
from ...core.computer.lasting import held
from ...core.load.memory import Memory
from ...core.told import computer as told
from ...core.told.ceiling import ceilings_words, trial_words
from ...core.told.finding import Finding
from ...machine.hold import Progress
from ...store.this_computer import from_here
from ..background.desk import Desk
from ..look.panels import headed, panel
from ..look.picture import scrolled
from ..look.sentence import Sentence
from ..look.words import Words
from .ceiling_view import CeilingView
from .finding_card import FindingCard
from .load_panel import LoadPanel
from .looking import SIZES, Looking
from .pace_panel import PacePanel

CEILING = (
    "Work of known size runs on all cores, in real time, against real deadlines. How long each block took, waited and "
    "was held up tells what load is held. That takes about a minute, in which this window hardly moves. Nothing else "
    "should run meanwhile."
)


class MachinePage(QWidget):
    """The page. `state_changed` tells its state in a word, and a colour for it; `ceilings_changed` what is held, when
    the pace has fallen to what lasts, by loads as sessions are computed, and how many times as long those take then."""

    state_changed = Signal(str, str)
    ceilings_changed = Signal(object, float)

    def __init__(self, desk: Desk, looking: Looking, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self.looking = desk, looking
        self.findings: list[Finding] = []
        self._facts: Facts | None = None
        self._kept: Memory | None = None
        self._measured = 0.0
        self.cards: list[FindingCard] = []
        self._shows_all = True
        self.ceilings: list[Ceiling] = []
        self._told: tuple[list[Ceiling], float] = [], 1.0
        self.sentence = Sentence()
        self.seek, self.stop = QPushButton("Find the ceiling"), QPushButton("Stop")
        self.bar, self.news, self.words = QProgressBar(), Words(), Words()
        self.view, self.load, self.pace = CeilingView(), LoadPanel(), PacePanel(looking)
        self._list = QVBoxLayout()
        self._lay_out()
        self.sentence.pressed.connect(self.look)
        self.seek.clicked.connect(self.start_finding)
        self.stop.clicked.connect(self.looking.stop)
        desk.recomputed.connect(self._show_kept)
        desk.opened.connect(self._show_kept)
        self.pace.taken.connect(self._take_pace)
        looking.lasts.connect(self._tell_held)
        looking.seen.connect(self.show_facts)
        looking.tried.connect(self._show_trial)
        looking.found.connect(self.show_ceilings)
        looking.ended.connect(self._show_end)
        looking.failed.connect(self._show_failure)
        # Each would be in the other's figures.
        self.load.running.connect(lambda runs: self._hold_back(runs, self.load))
        self.pace.running.connect(lambda runs: self._hold_back(runs, self.pace))

    def _lay_out(self) -> None:
        inside = QWidget()
        self._list.setContentsMargins(0, 0, 6, 0)
        self._list.setSpacing(6)
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(self._list)
        column.addStretch(1)
        found = scrolled(inside)
        found.setAccessibleName("Findings")
        title = Words("What this computer holds")
        title.setProperty("role", "title")
        for label in (self.words, self.news):
            label.setWordWrap(True)
            label.setProperty("role", "quiet")
        self.words.setText(CEILING)
        self.bar.setTextVisible(False)
        buttons = QHBoxLayout()
        buttons.addWidget(self.seek)
        buttons.addWidget(self.stop)
        buttons.addStretch(1)
        held = QWidget()
        side = QVBoxLayout(held)
        side.addWidget(title)
        side.addWidget(self.view)
        side.addWidget(self.words)
        side.addWidget(self.bar)
        side.addWidget(self.news)
        side.addLayout(buttons)
        for each in (self.pace, self.load):
            side.addSpacing(14)
            side.addWidget(each)
        side.addStretch(1)
        beside, around = panel()
        around.setContentsMargins(0, 0, 0, 0)
        around.addWidget(scrolled(held))
        cards, within = panel()
        within.setContentsMargins(10, 8, 4, 8)
        within.addWidget(found)
        row = QHBoxLayout()
        row.addWidget(cards, 5)
        row.addWidget(beside, 3)
        headed(self, self.sentence).addLayout(row, 1)
        for part in (self.bar, self.news, self.stop, self.view):
            part.hide()

    # What the user does

    def look(self) -> None:
        """Looks at the computer anew."""
        self.sentence.say("Looking at this computer.", "What changes is watched for ten seconds.", "quiet")
        self.looking.look()

    def _hold_back(self, do_wait: bool, running: QWidget | None = None) -> None:
        """Has all that would hold a load wait while one does, but for the part by which that is ended."""
        for each in (self.seek, self.load, self.pace):
            if each is not running:
                each.setDisabled(do_wait)

    def start_finding(self) -> None:
        """Looks for the ceiling at the usual buffer sizes."""
        if self.looking.is_finding:
            return
        for part in (self.bar, self.news, self.stop):
            part.show()
        self._hold_back(True)
        self.bar.setRange(0, len(SIZES) * TRIALS)
        self.bar.setValue(0)
        self.news.setText("Begins.")
        self.looking.find()

    # What is shown

    def show_facts(self, facts: Facts) -> None:
        """Makes a card of each finding."""
        self._facts = facts
        self.findings = told.findings(facts, self._kept, self._measured)
        self.refresh()
        matters = any(each.grade == "matters" for each in self.findings)
        watched = f"Watched for {facts.watched:.0f} s." if facts.watched else "Other programs are being watched …"
        button = "Look again" if facts.watched else ""
        advice = f"{told.advice(self.findings)} {watched}"
        self.sentence.say(told.headline(self.findings), advice, "overload" if matters else "fits", button)
        self.state_changed.emit(told.state(self.findings), "brick" if matters else "teal")

    def _show_kept(self) -> None:
        """What the plugins of the open session keep, and when they were measured, is seen beside what there is."""
        of = self._desk.survey
        self.pace.show_session(of is not None)
        self._tell_held()
        here = of is not None and not of.machine.is_another
        kept, measured = (of.memory, of.planned.figures.clock) if of is not None and here else (None, 0.0)
        if (kept, measured) != (self._kept, self._measured):
            self._kept, self._measured = kept, measured
            if self._facts is not None:
                self.show_facts(self._facts)

    def refresh(self) -> None:
        """Makes the cards anew, as the colours and the text size are now: once somebody looks at them."""
        self._shows_all = False
        if self.isVisible():
            self._make_cards()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if not self._shows_all:
            self._make_cards()

    def _make_cards(self) -> None:
        self._shows_all = True
        for card in self.cards:
            self._list.removeWidget(card)
            card.hide()
            card.deleteLater()
        self.cards = [FindingCard(each) for each in self.findings]
        for card in self.cards:
            self._list.addWidget(card)

    def _show_trial(self, step: Progress, done: int) -> None:
        self.bar.setValue(done)
        self.news.setText(f"{step.buffer} samples, {trial_words(step.trial)}.")

    def show_ceilings(self, found: Sequence[Ceiling]) -> None:
        """Shows what this computer was found to hold."""
        self.ceilings = list(found)
        self.view.show_ceilings(self.ceilings)
        if self.ceilings:
            self.words.setText(ceilings_words(self.ceilings))
            self.seek.setText("Find the ceiling again")
        self._tell_held()

    def _tell_held(self) -> None:
        """Where sessions are computed for a slower computer, loads have the pace that lasts in them already; and of
        another computer it is not known."""
        of = self._desk.survey
        lasting = self.pace.known if of is None or not of.machine.is_another else None
        found = [replace(each, held=held(each, lasting)) for each in self.ceilings]
        told = found, lasting.slower if lasting is not None else 1.0
        if told != self._told:
            self._told = told
            self.ceilings_changed.emit(*told)

    def _take_pace(self, speed: float) -> None:
        """Sessions are computed for this computer as fast as it is when it has worked for a while."""
        document = self._desk.document
        if document is not None:
            self._desk.choose_machine(from_here(replace(document.machine, speed=round(speed, 2))))

    def _show_end(self, sentence: str) -> None:
        self._hold_back(False)
        self.bar.hide()
        self.stop.hide()
        self.news.setText(sentence)
        self.news.setVisible(bool(sentence))

    def _show_failure(self, sentence: str) -> None:
        self.sentence.say("Nothing is known of this computer.", sentence, "overload", "Look again")
        self.state_changed.emit("not seen", "brick")
