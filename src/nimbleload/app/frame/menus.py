"""The window's menus: every command by name, most with a key."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu

from ...core.decisions.decision import STANDINGS
from ...core.session.computer import RATES, parts_of
from ...core.told.cores import part_words
from ...core.units import count
from ...store.this_computer import this_computer
from ..look.literal import literal
from .about import About
from .context import Context
from .exporting import ask_export
from .help import Help
from .installed import InstalledDialog
from .log_dialog import show_log
from .preferences import THEMES

PLACES = [
    ("Machine", "Ctrl+1"), ("Watch", "Ctrl+2"), ("Session", "Ctrl+3"), ("Measure", "Ctrl+4"), ("Balance", "Ctrl+5"),
    ("Carry out", "Ctrl+6"), ("Prove", "Ctrl+7"),
]  # fmt: skip

def _of(window: Any, what: Callable[[Any], object]) -> object:
    """Something of the document on the desk; None if there is none."""
    document = window.desk.document
    return what(document) if document is not None else None


def _cores(document: Any) -> object:
    """How many cores it is planned for; a part of this computer is itself: two of them may have as many."""
    machine = document.machine
    return machine if machine.kept else machine.cores


class Menus:
    """Fills the menu bar of the main window, which has everything that the commands call."""

    recent: QMenu
    save: QAction
    report: QAction
    undo: QAction
    redo: QAction
    unheld: QAction
    decisions: list[QAction]
    worst: list[QAction]
    sizes: list[QAction]
    pins: list[QAction]
    looks: list[QAction]
    settled: QMenu
    decide: QMenu

    def __init__(self, window: Any) -> None:
        self._window = window
        self._files(window)
        self._edit(window)
        self._go(window)
        self._decide(window)
        self._computer(window)
        self._view(window)
        self._help(window)
        self.context = Context(window, self)

    @staticmethod
    def place(name: str) -> int:
        """The number of a place."""
        return [each for each, _ in PLACES].index(name)

    def _files(self, window: Any) -> None:
        files = window.menuBar().addMenu("&Session")
        self.add(files, "&New…", window.ask_new, QKeySequence.StandardKey.New)
        self.add(files, "Open the &example", window.open_example)
        self.add(files, "&Open…", window.ask_open, QKeySequence.StandardKey.Open)
        self.recent = files.addMenu("Open &recent")
        self.recent.aboutToShow.connect(window.fill_recent)
        self.save = self.add(files, "&Save", window.save, QKeySequence.StandardKey.Save)
        self.add(files, "Save &as…", window.ask_save, QKeySequence.StandardKey.SaveAs)
        self.report = self.add(files, "What the &import understood…", window.show_report)
        self.add(files, "Take in a newer e&xport…", window.outside.ask_newer)
        for action in window.edit.menus["Add"][3:]:
            files.addAction(action)
        self.add(files, "Write as an exchange &file…", lambda: ask_export(window.desk, window))
        files.addSeparator()
        self.add(files, "&Quit", window.close, QKeySequence.StandardKey.Quit)

    def _edit(self, window: Any) -> None:
        edit = window.menuBar().addMenu("&Edit")
        self.undo = self.add(edit, "&Undo", window.desk.undo, "Ctrl+Z")
        self.redo = self.add(edit, "&Redo", window.desk.redo, "Ctrl+Shift+Z")
        self.add(edit, "Take back &all decisions", window.desk.clear_plan)

        for name, words in (("Add", "A&dd"), ("Tracks", "&Tracks"), ("Plugins", "&Plugins")):
            inside = edit.addMenu(words)
            for action in window.edit.menus[name]:
                inside.addAction(action)  # not of the window: their keys are those of the page alone
        for action in window.edit.menus["Both"]:
            edit.addAction(action)

    def _go(self, window: Any) -> None:
        go = window.menuBar().addMenu("&Go")
        for number, (name, key) in enumerate(PLACES):
            self.add(go, name, partial(window.go, number), key)
        self.add(go, "S&tart", partial(window.go, len(PLACES)), "Ctrl+0")
        go.addSeparator()
        self.worst = [
            self.add(go, "&Next worst moment", lambda: window.desk.step_worst(1), "."),
            self.add(go, "&Previous worst moment", lambda: window.desk.step_worst(-1), ","),
        ]
        self.sizes = [
            self.add(go, "&Smaller buffer", lambda: window.balance.buffers.step(-1), "["),
            self.add(go, "&Larger buffer", lambda: window.balance.buffers.step(1), "]"),
        ]
        self.add(go, "&Filter tracks", window.focus_filter, QKeySequence.StandardKey.Find)

    def _decide(self, window: Any) -> None:
        self.decide = decide = window.menuBar().addMenu("&Decide")
        self.decisions = [
            self.add(decide, f"Decision &{digit} for the chosen tracks", partial(window.decide, digit), str(digit))
            for digit in range(1, 10)
        ]
        decide.aboutToShow.connect(self.name_decisions)
        # Their keys work whatever was chosen when the menu was last open.
        for action in self.decisions:
            decide.aboutToHide.connect(partial(action.setEnabled, True))
        decide.addSeparator()
        self.add(decide, "&Suggest a plan", window.balance.suggest, "Ctrl+P")
        self.pins = [
            self.add(decide, "&Pin the chosen tracks", lambda: window.pin(True), "P"),
            self.add(decide, "&Let the chosen tracks go", lambda: window.pin(False), "Shift+P"),
        ]
        self.settled = settled = decide.addMenu("How se&ttled the chosen tracks are")
        for standing in STANDINGS:
            self.add(settled, f"&{standing.capitalize()}", partial(window.stand, standing))
        self.add(decide, "&Compare three plans…", window.deciding.compare_plans, "Ctrl+Shift+P")
        self.add(decide, "Plans put &by…", window.deciding.show_kept, "Ctrl+Shift+K")
        self.add(decide, "&What the session gives away…", window.deciding.show_findings, "F")
        self.add(decide, "&Before the final render…", window.deciding.show_restore, "B")
        peek = self.add(decide, "Show it without the plan (or hold C)", window.desk.toggle_peek)
        self._marks(decide, peek, True, lambda: window.desk.wants_peek)
        hold = window.balance.hold_version
        self.add(decide, "&Hold this version to compare with", lambda: hold(True), "Ctrl+Shift+H")
        self.unheld = self.add(decide, "Let the held version g&o", lambda: hold(False))
        decide.aboutToShow.connect(lambda: self.unheld.setEnabled(window.balance.held is not None))
        self.add(decide, "&Write the plan as a report or a table…", window.deciding.ask_report)

    def name_decisions(self) -> None:
        """Says what each of the decisions would do now, for which tracks; those that are not possible stand back."""
        options = self._window.balance.options
        for number, action in enumerate(self.decisions):
            option = options.options[number] if number < len(options.options) else None
            what = f"{option.text()}: {options.title}" if option is not None else f"Decision {number + 1}: nothing now"
            action.setText(f"&{number + 1}   {literal(what)}")
            action.setEnabled(option is not None and option.isEnabled())

    def _computer(self, window: Any) -> None:
        computer = window.menuBar().addMenu("&Computer")
        self.add(computer, "The &host and the audio device…", window.ask_host)
        self.add(computer, "&Track in time…", window.deciding.ask_tracking)
        self.add(computer, "&Plugins installed here…", lambda: InstalledDialog(window).open())
        known = computer.addMenu("Cost &library")
        self.add(known, "&Write it as a table…", window.library_files.ask_write)
        self.add(known, "&Take a table in…", window.library_files.ask_take_in)
        rates = computer.addMenu("Sample &rate")
        for rate in RATES:
            action = self.add(rates, f"{rate / 1000:g} kHz", partial(window.desk.choose_rate, rate))
            self._marks(rates, action, rate, lambda: _of(window, lambda now: now.session.rate))
        computer.addSeparator()
        here = this_computer()
        for cores in sorted({2, 4, 6, 8, 12, 16, 24, 32, here.cores}):
            words = " (as many as here)" if cores == here.cores else ""
            action = self.add(computer, f"{count(cores, 'core')}{words}", partial(window.choose_cores, cores))
            self._marks(computer, action, cores, partial(_of, window, _cores))
        for part in parts_of(here).values():
            words = f"The host &kept on {part_words(part, here)}"
            action = self.add(computer, words, partial(window.desk.choose_machine, part))
            self._marks(computer, action, part, partial(_of, window, _cores))
        self.add(computer, "&Another computer…", window.ask_computer)

    def _marks(self, menu: QMenu, action: QAction, value: object, in_force: Callable[[], object]) -> None:
        """A command that chooses one of several values is marked, whenever its menu opens, if that is in force."""
        action.setCheckable(True)
        menu.aboutToShow.connect(lambda: action.setChecked(in_force() == value))
        action.triggered.connect(lambda _=False: action.setChecked(in_force() == value))

    def _view(self, window: Any) -> None:
        view = window.menuBar().addMenu("&View")
        for name, words in THEMES.items():
            action = self.add(view, f"&{words}", partial(window.choose_theme, name))
            self._marks(view, action, name, lambda: window.theme_choice)
        self.add(view, "Pre&ferences…", window.ask_preferences, QKeySequence.StandardKey.Preferences)
        self.add(view, "&Larger text", lambda: window.scale_text(1), "Ctrl++")
        self.add(view, "&Smaller text", lambda: window.scale_text(-1), "Ctrl+-")
        view.addSeparator()
        piece = window.balance.timeline
        self.looks = [
            self.add(view, "Look at the piece &closer", lambda: piece.zoom(0.5), "+"),
            self.add(view, "Look at &more of the piece", lambda: piece.zoom(2.0), "-"),
            self.add(view, "Look at &all of the piece", piece.see_all),
        ]
        # The same key without Shift.
        self.looks[0].setShortcuts([QKeySequence("+"), QKeySequence("=")])

    def _help(self, window: Any) -> None:
        helping = window.menuBar().addMenu("&Help")
        self.add(helping, "The guide: this &place", window.show_help, "F1")
        self.add(helping, "The &guide", lambda: Help("The guide", window).open())
        self.add(helping, "&Why does it crackle?", lambda: Help("Why does it crackle?", window).open())
        self.add(helping, "&Find a command…", window.find_command, "Ctrl+K")
        self.add(helping, "What the program wrote down (&log)…", lambda: show_log(window.desk.jobs, window))
        self.add(helping, "&About Nimble Load…", lambda: About(window).open())

    def add(
        self, menu: QMenu, text: str, run: Callable[[], object], key: QKeySequence.StandardKey | str = ""
    ) -> QAction:
        """A command in a menu, which the window has as well, so that its key works everywhere."""
        action = menu.addAction(text)
        if key:
            action.setShortcut(QKeySequence(key))
        action.triggered.connect(lambda _=False: run())
        self._window.addAction(action)
        return action
