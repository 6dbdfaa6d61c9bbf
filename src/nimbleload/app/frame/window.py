"""The window: the places, the menus, files, and what connects them to the desk."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ...core.decisions.decision import Standing
from ...core.load.host_seen import HostSeen
from ...core.load.seen import Taken
from ...core.session.computer import Machine
from ...core.session.edits import empty
from ...core.session.session import TempoPoint
from ...core.session.time_edits import set_tempo
from ...core.told.cores import cores_words
from ...core.told.hints import HINTS
from ...core.told.watching import taken_words
from ...core.units import as_file_name, percent
from ...probe import catalogue
from ...probe.choosing import recorded
from ...store.library import Library
from ...store.opening import EXCHANGE_SUFFIX, Opened, made_here
from ...store.recovery import Recovery
from ...store.session_file import SUFFIX, Saved
from ...store.this_computer import from_here
from ..background.desk import Desk
from ..background.files import Filing
from ..background.rehearsing import Rehearsing
from ..background.to_window_thread import ToWindowThread
from ..balance.balance_page import BalancePage
from ..carry.carry_page import CarryPage
from ..carry.carrying_out import CarryingOut
from ..edit.adding import Adding, dropped
from ..edit.ask import ask_new
from ..edit.session_page import SessionPage
from ..look.literal import literal
from ..look.notice import Notice, written
from ..look.panels import Message
from ..look.picture import scrolled
from ..look.place_strip import PlaceStrip
from ..look.theme import SCALES, theme
from ..machine.looking import Looking
from ..machine.machine_page import MachinePage
from ..measure.measure_page import MeasurePage
from ..measure.measuring import Measuring
from ..prove.prove_page import ProvePage
from ..start.start_page import StartPage
from ..watch.watch_page import WatchPage
from ..watch.watching import Watching
from . import import_report
from .computer_dialog import ComputerDialog
from .deciding import Deciding
from .finder import Finder
from .help import Help
from .hints import Hints
from .host_dialog import HostDialog
from .library_files import LibraryFiles
from .menus import PLACES, Menus
from .outside import Outside
from .preferences import Preferences
from .recovering import Recovering
from .remembered import Remembered

MACHINE, WATCH, EDIT, MEASURE, BALANCE, CARRY, PROVE, START = range(8)
AUTOSAVE_MS = 3000
Example = Callable[[], Saved]


class MainWindow(QMainWindow):
    """The only window. `example` makes the example session; `library` may be None, then nothing is kept."""

    def __init__(self, example: Example, library: Library | None, choices: Remembered, recovery: Recovery) -> None:
        super().__init__()
        self._example, self._choices = example, choices
        self.desk = Desk(self)
        self.filing = Filing(library, recovery, self)
        self.measuring = Measuring(library, parent=self)
        self.places = PlaceStrip(PLACES)
        self.measure = MeasurePage(self.desk, self.measuring)
        self.balance = BalancePage(self.desk)
        self.deciding = Deciding(self.desk, self.balance, self)
        self.rehearsing = Rehearsing(self)
        self.prove = ProvePage(self.desk, self.rehearsing)
        self.looking = Looking(self)
        self.machine = MachinePage(self.desk, self.looking)
        self.watching = Watching(self)
        self.watch = WatchPage(self.desk, self.watching)
        self.carrying = CarryingOut(self)
        self.carry = CarryPage(self.desk, self.carrying)
        self.carry.write_as(choices.file_kind)
        self.carry.kind_chosen.connect(partial(setattr, choices, "file_kind"))
        self.edit = SessionPage(self.desk)
        self.adding = Adding(self.desk, self.filing, self)
        self.recovering = Recovering(self.desk, self.filing, self)
        self.outside = Outside(self)
        self.library_files = LibraryFiles(self.desk, library, self.complain, self)
        self.start = StartPage({
            "watch": partial(self.go, WATCH), "machine": partial(self.go, MACHINE), "open": self.ask_open,
            "audio": partial(self.adding.ask, True), "new": self.ask_new, "example": self.open_example,
        })  # fmt: skip
        self.pages = QStackedWidget()
        places = (self.machine, self.watch, self.edit, self.measure, self.balance, self.carry, self.prove)
        self.hints = Hints(dict(zip((name for name, _ in PLACES), places, strict=True)), choices)
        for page in (*places, self.start):
            self.pages.addWidget(scrolled(page, sideways=True) if page is self.balance else page)
        self._autosave = QTimer(self)
        self._autosave.setSingleShot(True)
        self._autosave.setInterval(AUTOSAVE_MS)
        self._after_save: Callable[[], object] | None = None
        self._is_shut_down = False
        self._to_window = ToWindowThread(self)
        self.setAcceptDrops(True)
        self._lay_out()
        self._menus = Menus(self)
        self._connect()
        self.go(BALANCE)
        self._show_title()
        self.watching.look()
        self.machine.look()

    def _lay_out(self) -> None:
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.places)
        column.addWidget(self.pages, 1)
        column.addWidget(Notice())
        self.setCentralWidget(inside)
        self.resize(1280, 800)
        for name, widget in (("window", self), ("middle", self.balance.middle), ("halves", self.balance.halves)):
            state = self._choices.remembered(name)
            if state is not None:
                widget.restoreGeometry(state) if widget is self else widget.restoreState(state)

    def _connect(self) -> None:
        desk = self.desk
        self.places.chosen.connect(self.go)
        QApplication.styleHints().colorSchemeChanged.connect(self._restyle)
        self.balance.place_wanted.connect(lambda name: self.go(Menus.place(name)))
        self.measure.state_changed.connect(self.places.buttons[MEASURE].show_state)
        self.measure.updated_changed.connect(self.balance.show_updated)
        self.prove.state_changed.connect(self.places.buttons[PROVE].show_state)
        self.machine.ceilings_changed.connect(self.balance.show_ceilings)
        self.machine.state_changed.connect(self.places.buttons[MACHINE].show_state)
        self.edit.state_changed.connect(self.places.buttons[EDIT].show_state)
        self.edit.adding_wanted.connect(self.adding.ask)
        self.edit.new_wanted.connect(self.ask_new)
        self.edit.card_wanted.connect(self.show_card)
        self.adding.added.connect(lambda: self.go(EDIT))
        self.adding.failed.connect(self.complain)
        self.carry.state_changed.connect(self.places.buttons[CARRY].show_state)
        self.watch.taken.connect(lambda made: self._leave_then(lambda: self._take_seen(made)))
        self.watch.state_changed.connect(self.places.buttons[WATCH].show_state)
        self.watch.offered.connect(self.start.show_hosts)
        self.start.opened.connect(self.open_path)
        desk.opened.connect(self._show_title)
        desk.recomputed.connect(self._show_load)
        desk.saved_changed.connect(self._changed)
        desk.failed.connect(lambda _: self.places.buttons[BALANCE].show_state("not computed", "brick"))
        self.filing.opened.connect(self._take_opened)
        self.filing.saved.connect(self._take_saved)
        self.filing.known.connect(self._take_cards)
        desk.troubled.connect(self.complain)
        self.filing.failed.connect(self.complain)
        written.failed.connect(self.complain)
        self._autosave.timeout.connect(self._keep_copy)

    # Commands

    def commands(self) -> list[QAction]:
        page = [*self.edit.actions(), *self.edit.view.actions()] if self.pages.currentIndex() == EDIT else []
        return [action for action in (*self.actions(), *page) if action.text()]

    def find_command(self) -> None:
        Finder(self.commands(), self).open()

    def show_help(self) -> None:
        place = self.pages.currentIndex()
        Help(PLACES[place][0] if place < len(PLACES) else "The guide", self).open()

    # Places and choices

    def go(self, number: int) -> None:
        if number == START:
            self._show_recent()
            self._choices.look(partial(self._to_window.post, self._show_recent))
        self.pages.setCurrentIndex(number)
        self.places.check(number)
        first = {START: self.start.buttons["watch"], BALANCE: self.balance.tracks.view, MEASURE: self.measure.table,
                 WATCH: self.watch.sentence.button, PROVE: self.prove.sentence.button, CARRY: self.carry.table,
                 MACHINE: self.machine.sentence.button, EDIT: self.edit.view}  # fmt: skip
        first[number].setFocus()

    def _show_recent(self) -> None:
        self.start.show_recent(self._choices.recent)

    def decide(self, digit: int) -> None:
        if self.pages.currentIndex() == BALANCE:
            self.balance.options.choose_digit(digit)

    def pin(self, on: bool) -> None:
        """Only where the chosen tracks are in sight."""
        if self.pages.currentIndex() == BALANCE:
            self.desk.pin(self.desk.selection, on)

    def focus_filter(self) -> None:
        self.go(BALANCE)
        self.balance.tracks.filter.setFocus()

    def choose_cores(self, cores: int) -> None:
        """A computer with so many cores: this one, if it has as many."""
        now = self.desk.document.machine if self.desk.document else Machine()
        self.desk.choose_machine(from_here(Machine(cores, now.speed, memory=now.memory)))

    @property
    def theme_choice(self) -> str:
        """"night", "paper", or "desktop" for whichever that has."""
        return self._choices.theme

    def choose_theme(self, name: str) -> None:
        self._choices.theme = name
        self._restyle()

    def scale_text(self, step: int) -> None:
        place = SCALES.index(theme.scale) + step
        self._choices.scale = SCALES[min(max(place, 0), len(SCALES) - 1)]
        self._restyle()

    def _restyle(self, *_: object) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        theme.apply(application, self._choices.theme, self._choices.scale)
        self.machine.refresh()
        self.edit.restyle()
        self.watch.restyle()
        self.desk.show_again()

    def ask_preferences(self) -> None:
        hints = bool(set(self.hints.by_place) - self._choices.closed_hints)
        dialog = Preferences(self._choices.theme, theme.scale, hints, self)
        dialog.theme_chosen.connect(self.choose_theme)
        dialog.scale_chosen.connect(lambda scale: self.scale_text(SCALES.index(scale) - SCALES.index(theme.scale)))
        dialog.hints_chosen.connect(lambda on: self.hints.show_again() if on else self.hints.close(*HINTS))
        dialog.open()

    def ask_computer(self) -> None:
        """Asks how the session would run on another computer."""
        if self.desk.document is not None:
            dialog = ComputerDialog(self.desk.document.machine, self)
            dialog.chosen.connect(self.desk.choose_machine)
            dialog.open()

    def ask_host(self) -> None:
        """Asks what the host and the audio device do."""
        document, of, at = self.desk.document, self.desk.survey, self.desk.instant
        if document is None or of is None or at is None:
            return
        session = document.session

        def look(paths: list[Path]) -> HostSeen:
            return self.desk.beside.host_seen(of, at, *recorded(paths, catalogue.remembered()))

        dialog = HostDialog(session.host, session.device, partial(self.desk.beside.fitted, of, at), look, self)
        dialog.chosen.connect(self.desk.choose_host)
        dialog.open()

    def show_card(self, use_id: str) -> None:
        """Goes to the cost card of a plugin."""
        document = self.desk.document
        if document is not None:
            self.go(MEASURE)
            self.measure.choose_use(use_id)

    # Files

    def ask_new(self) -> None:
        """Asks what an empty session is to be called; it takes the place of the one on the desk."""
        ask_new(self, lambda name, rate, bpm: self._leave_then(lambda: self._begin(name, rate, bpm)))

    def _take_seen(self, made: Taken) -> None:
        """A session of what a running host was seen to do takes the place of the one on the desk."""
        saved = Saved(made.session, cards=made.cards, machine=made.machine, buffer=made.buffer)
        self.desk.open(saved, self.filing.cards_for(Opened(saved)), unsaved=True)
        self.go(EDIT)
        self.edit.news.setText(taken_words(made))

    def _begin(self, name: str, rate: int, bpm: float) -> None:
        session = set_tempo(empty(name.strip() or "New session", rate), [TempoPoint(0.0, bpm)])
        self._show_opened(None, Opened(made_here(session)))
        self.go(EDIT)

    def open_example(self) -> None:
        self._leave_then(lambda: self._show_opened(None, Opened(self._example())))

    def open_path(self, path: Path) -> None:
        self._leave_then(lambda: self.filing.open(path.absolute()))

    def ask_open(self) -> None:
        kinds = f"Sessions (*{SUFFIX} *{EXCHANGE_SUFFIX})"
        name, _ = QFileDialog.getOpenFileName(self, "Open a session", "", kinds)
        if name:
            self.open_path(Path(name))

    def _take_opened(self, path: Path, found: Opened, cards: dict) -> None:
        self._choices.add_recent(path)
        self._show_opened(path if path.suffix == SUFFIX else None, found, cards)
        if found.report is not None and found.report.left_out:
            self.show_report()

    def _show_opened(self, path: Path | None, found: Opened, cards: dict | None = None) -> None:
        known = self.filing.cards_for(found) if cards is None else cards
        self.desk.open(found.saved, known, path, found.report)
        self.filing.forget()
        if self.pages.currentIndex() == START:
            self.go(BALANCE)

    def save(self) -> None:
        if self.desk.path is None:
            self.ask_save()
        else:
            self.save_to(self.desk.path)

    def ask_save(self) -> None:
        if self.desk.document is None:
            return
        proposed = self.desk.path or Path.home() / f"{as_file_name(self.desk.document.session.name)}{SUFFIX}"
        name, _ = QFileDialog.getSaveFileName(self, "Save the session", str(proposed), f"Sessions (*{SUFFIX})")
        if not name:
            self.stay()
            return
        path = Path(name)
        self.save_to(path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX), True)

    def save_to(self, path: Path, over: bool = False) -> None:
        """Saves it there, over what another program has written there since only if that is wanted."""
        saved = self.desk.saved()
        if saved is not None:
            self.filing.save(path, saved, self.desk.document, over)

    def stay(self) -> None:
        """Saving was given up, and with it what was to come after."""
        self._after_save = None

    def _take_saved(self, path: Path, document: object) -> None:
        self._choices.add_recent(path)
        if self.desk.document is document:
            self.desk.mark_saved(path)
        else:
            self.desk.path = path  # it has changed while it was written
        self._show_title()
        if self._after_save is not None:
            then, self._after_save = self._after_save, None
            then()

    def _changed(self) -> None:
        for action, word, step in ((self._menus.undo, "&Undo", self.desk.history.undo_step),
                                   (self._menus.redo, "&Redo", self.desk.history.redo_step)):  # fmt: skip
            action.setEnabled(step is not None)
            action.setText(f"{word} {literal(step or '')}".strip())
        self._show_title()
        if self.desk.document is not None:
            self.filing.look_up(self.desk.document.session, self.desk.cards)
        if self.desk.has_unsaved:
            self._autosave.start()

    def _take_cards(self, cards: dict) -> None:
        """Figures that are known of plugins which an edit has brought in."""
        self.desk.take_cards(cards)
        self.desk.refresh()

    def _keep_copy(self) -> None:
        saved = self.desk.saved()
        if saved is not None and self.desk.has_unsaved:
            self.filing.keep(saved, self.desk.path)

    def fill_recent(self) -> None:
        recent = self._menus.recent
        recent.clear()
        for path in self._choices.recent:
            recent.addAction(literal(path.name), partial(self.open_path, path)).setToolTip(str(path))
        if recent.isEmpty():
            recent.addAction("Nothing opened yet").setEnabled(False)

    def show_report(self) -> None:
        if self.desk.report is not None:
            import_report.show(self.desk.report, self)

    def complain(self, sentence: str) -> None:
        """Says what went wrong; the window stays usable."""
        self.stay()
        box = Message(self)
        box.setIcon(Message.Icon.Warning)
        box.setWindowTitle("Nimble Load")
        box.setText(sentence)
        box.open()

    # What is shown

    def _show_title(self) -> None:
        document = self.desk.document
        self._menus.report.setEnabled(self.desk.report is not None)
        if document is None:
            self.setWindowTitle("Nimble Load")
            return
        mark = " (unsaved)" if self.desk.has_unsaved else ""
        self.setWindowTitle(f"{document.session.name}{mark} — Nimble Load")
        runs_at = f"{document.session.rate / 1000:g} kHz   {cores_words(document.machine)}{mark}"
        self.places.show_session(document.session.name, runs_at)

    def stand(self, standing: Standing) -> None:
        self.desk.stand(self.desk.selection, standing)

    def _show_load(self) -> None:
        of = self.desk.survey
        if of is None:
            return
        if self.desk.instant is not None and self.desk.instant.judged.kind == "unknown":
            self.places.buttons[BALANCE].show_state("not known")
            return
        worst = of.after.highest
        colour = "brick" if worst > 1 else "brass" if worst > of.session.limit else "teal"
        self.places.buttons[BALANCE].show_state(percent(worst), colour)

    # Closing and dropping

    def _leave_then(self, go_on: Callable[[], object]) -> None:
        """Goes on if the session on the desk may be left; asks if it has unsaved work, and saves it first if wanted."""
        answer = self._ask_leave() if self.desk.has_unsaved else QMessageBox.StandardButton.Discard
        if answer == QMessageBox.StandardButton.Save:
            self._after_save = go_on
            self.save()
        elif answer == QMessageBox.StandardButton.Discard:
            go_on()

    def _ask_leave(self) -> QMessageBox.StandardButton:
        buttons = QMessageBox.StandardButton
        return QMessageBox.question(
            self, "Nimble Load", "The session has changed since it was saved. Save it?",
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.desk.has_unsaved:
            answer = self._ask_leave()
            if answer == QMessageBox.StandardButton.Save:
                self._after_save = self.close
                self.save()
            if answer != QMessageBox.StandardButton.Discard:
                event.ignore()
                return
        self._choices.remember("window", self.saveGeometry())
        self._choices.remember("middle", self.balance.middle.saveState())
        self._choices.remember("halves", self.balance.halves.saveState())
        self.shut_down()
        event.accept()

    def shut_down(self) -> None:
        """Ends all threads and workers, and removes the recovery copy. A second call does nothing."""
        if self._is_shut_down:
            return
        self._is_shut_down = True
        self._autosave.stop()
        self._to_window.close()
        self.measuring.close()
        self.rehearsing.close()
        self.watching.close()
        self.machine.load.close_load()
        self.looking.close()
        self.carrying.close()
        self.filing.forget()
        self.adding.close()
        self.edit.close_down()
        self.filing.close()
        self._choices.flush()
        self.desk.close()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if dropped(event):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        if paths := dropped(event):
            event.setDropAction(Qt.DropAction.CopyAction)
            event.accept()
            opens = len(paths) == 1 and paths[0].suffix.lower() in (SUFFIX, EXCHANGE_SUFFIX)
            self.open_path(paths[0]) if opens else self.adding.read(*paths)
