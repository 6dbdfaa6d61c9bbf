"""Watch: what a running host really does, block by block and plugin by plugin."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QTableWidget,
    QTableWidgetItem,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from ...core.load.seen import session_of
from ...core.survey import Compared
from ...core.told import watching as told
from ...core.units import as_sentence, count, percent
from ...core.watching.before import Before
from ...core.watching.shares import Change
from ...machine.sound_servers import Running
from ...store.recording_file import SUFFIX
from ..background.desk import Desk
from ..background.turns import Turns
from ..look.deadline_view import DeadlineView
from ..look.on_key import on_key
from ..look.panels import dress_table, headed, panel, size_table
from ..look.picture import scrolled
from ..look.sentence import Sentence
from ..look.theme import theme
from ..look.words import Words
from ..look.wrapping import Wrapping
from .dropout_table import DropoutTable
from .lanes_view import LanesView, swatch
from .past_view import PastView
from .watching import SHOWN_SECONDS, Expected, Found, Snapshot, Watching, shown_of

HEADINGS = ("Who", "Of one core", "95 of 100 times", "In the worst blocks", "Predicted", "Before", "Difference")
IN_WORST, PREDICTED, BEFORE, DIFFERENCE = 3, 4, 5, 6
LOOK_EVERY_MS = 3000
EMPTY = """<p>1. Start your host beside this window, open the session, and press play.<br>
2. Choose it here, and watch: within seconds you see how full each block is, which were late, and which plugin takes how
much.<br>
3. Hold what you see as <i>before</i>, change something in the host, and see whether it made a difference.</p>
<p>What is seen can be kept as a file and opened elsewhere.</p>"""
NAMED_FINDINGS = 2


def _said(of: Snapshot) -> tuple[str, list[str]]:
    """The headline, and what else is to be said in order. Dropouts come first, wherever they were."""
    if of.past.number:
        return of.said[0], [*of.said[1:], of.headline, *of.findings]
    return of.headline, [*of.said, *of.findings]


class WatchPage(QWidget):
    """The page. `state_changed` tells its state in a word, and a colour for it; `offered` how many hosts could be
    watched, while nothing is shown; `taken` brings a session that was made of what is shown (see `Taken`)."""

    state_changed = Signal(str, str)
    offered = Signal(int)
    taken = Signal(object)

    def __init__(self, desk: Desk, watching: Watching, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self.watching = desk, watching
        self.shown: Snapshot | None = None
        self.before: Before | None = None
        self.choices: list[tuple[int, ...]] = []
        self._servers: dict[tuple[int, ...], Running] = {}
        self._has_failed = False
        self.sentence = Sentence()
        self.hosts, self.close_look = QComboBox(), QCheckBox("Look closely")
        self.heard = QPushButton("I heard a dropout (H)")
        self.hold, self.let_go = QPushButton("Hold this as before"), QPushButton("Let go of before")
        self.keep, self.open = QPushButton("Keep this recording…"), QPushButton("Open a recording…")
        self.take = QPushButton("Make a session of it")
        self.past, self.blocks, self.lanes = PastView(), DeadlineView(), LanesView()
        self.past.turns = self.blocks.turns = self.lanes.turns = Turns(self)
        self.table, self.dropouts = QTableWidget(0, len(HEADINGS)), DropoutTable()
        self.to_table, self.to_dropouts, self.tables = QPushButton("Who takes what"), QPushButton(), QStackedWidget()
        self._chosen: int | None = None
        self.words, self.roles = Words(), Words()
        self.empty, self.example = Words(EMPTY), QPushButton("See a recording of the example")
        self._look_again = QTimer(self)
        self._look_again.setInterval(LOOK_EVERY_MS)
        self._lay_out()
        self._connect()
        self._show_found(Found([], [], {}))
        size_table(self.table, 22)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)

    def _lay_out(self) -> None:
        self.hosts.setAccessibleName("Which host to watch")
        self.hosts.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.hosts.setMinimumContentsLength(46)
        self.close_look.setToolTip("Ten times as many looks: finer figures within ten seconds, for a higher price")
        dress_table(self.table, HEADINGS, "Who takes how much of the engine's time", Qt.AlignmentFlag.AlignRight)
        first = QTableWidgetItem(HEADINGS[0])
        first.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.setHorizontalHeaderItem(0, first)
        self.table.setShowGrid(False)
        self.words.setWordWrap(True)
        self.roles.setWordWrap(True)
        self.roles.setProperty("role", "quiet")
        row = QHBoxLayout()
        row.addWidget(self.hosts)
        row.addWidget(self.close_look)
        row.addLayout(Wrapping(self.heard, self.hold, self.let_go, self.take, self.keep, self.open, at_end=True), 1)
        pictures = QWidget()
        left = QVBoxLayout(pictures)
        left.setContentsMargins(0, 0, 8, 0)
        left.addWidget(self.blocks, 2)
        left.addWidget(self.lanes, 3)
        figures = QWidget()
        right = QVBoxLayout(figures)
        right.setContentsMargins(8, 0, 0, 0)
        which = QHBoxLayout()
        group = QButtonGroup(self)
        for button, shown in ((self.to_table, self.table), (self.to_dropouts, self.dropouts)):
            self.tables.addWidget(shown)
            button.setProperty("role", "word")
            button.setCheckable(True)
            button.clicked.connect(partial(self.tables.setCurrentWidget, shown))
            group.addButton(button)
            which.addWidget(button)
        self.to_table.setChecked(True)
        which.addStretch(1)
        right.addLayout(which)
        said = QWidget()
        below = QVBoxLayout(said)
        below.setContentsMargins(0, 0, 0, 0)
        below.addWidget(self.words)
        below.addWidget(self.roles)
        below.addStretch(1)
        right.addWidget(self.tables, 3)
        right.addWidget(scrolled(said), 2)
        self.halves = QSplitter()
        self.halves.addWidget(pictures)
        self.halves.addWidget(figures)
        self.halves.setSizes([560, 640])
        self.halves.setChildrenCollapsible(False)
        frame, inside = panel()
        inside.addLayout(row)
        self.empty.setWordWrap(True)
        self.empty.setTextFormat(Qt.TextFormat.RichText)
        inside.addWidget(self.empty)
        inside.addWidget(self.example, 0, Qt.AlignmentFlag.AlignLeft)
        inside.addWidget(self.past)
        inside.addWidget(self.halves, 1)
        self._below = QWidget()
        inside.addWidget(self._below, 1)
        headed(self, self.sentence).addWidget(frame, 1)

    def _connect(self) -> None:
        self.sentence.pressed.connect(self.press)
        self.heard.clicked.connect(self.mark)
        on_key(self, "H", self.mark)
        for places in (self.past, self.dropouts):
            places.chosen.connect(self.choose_dropout)
        self.hold.clicked.connect(self.hold_before)
        self.let_go.clicked.connect(self.forget_before)
        self.keep.clicked.connect(self.ask_keep)
        self.open.clicked.connect(self.ask_open)
        self.take.clicked.connect(self.make_session)
        for asked in (self._desk.recomputed, self._desk.moved):
            asked.connect(self._expect)
        self.watching.expects.connect(self._show_expected)
        self.example.clicked.connect(self.watching.show_example)
        self.watching.found.connect(self._show_found)
        self.watching.seen.connect(self._show)
        self.watching.ended.connect(self._show_end)
        self.watching.wrote.connect(self.words.setText)
        self.watching.failed.connect(self._show_failure)
        self._look_again.timeout.connect(self._look)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._expect()
        self.watching.get_ready()
        self._look()
        self._look_again.start()

    # What the user does

    def press(self) -> None:
        """Watches the chosen host; stops watching; looks again where there is none, or nothing could be seen."""
        if self.watching.is_running:
            self.watching.stop()
        elif self.chosen and not self._has_failed:
            self.shown = None
            self.sentence.say("Watching begins.", "First figures come after a second.", "quiet", "Stop")
            self.hosts.setEnabled(False)
            self.close_look.setEnabled(False)
            self._tell("begins", "brass")
            self.watching.start(self.chosen, self.close_look.isChecked(), self._servers.get(self.chosen))
        else:
            self._has_failed = False
            self.watching.look()

    def mark(self) -> None:
        """The user hears a dropout; what blocks say of it comes some seconds later."""
        if self.heard.isVisible():
            self.watching.mark()
            QToolTip.showText(self.heard.mapToGlobal(self.heard.rect().bottomLeft()), "Noted.", self.heard)

    def choose_dropout(self, place: int) -> None:
        """Shows the blocks of a dropout by its place among all of them (−1: the fullest block again), and its line."""
        if self.shown is None:
            return
        found = self.shown.past.dropouts
        self._chosen = found[place].time if 0 <= place < len(found) else None
        if self._chosen is not None:
            self.to_dropouts.click()
        self._show_past(self.shown)

    def hold_before(self) -> None:
        """What is shown now is what later figures are compared with."""
        if self.shown is not None:
            self.before = Before.of(self.shown.seen, told.by_name(self.shown.rows))
            self._show(self.shown)

    def forget_before(self) -> None:
        self.before = None
        if self.shown is not None:
            self._show(self.shown)

    def ask_keep(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Keep this recording", f"host{SUFFIX}", f"Recordings (*{SUFFIX})")
        if path:
            self.watching.keep(Path(path) if path.endswith(SUFFIX) else Path(path + SUFFIX))

    def ask_open(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Open a recording", "", f"Recordings (*{SUFFIX})")
        if path:
            self.watching.open(Path(path))

    # What is shown

    def _look(self) -> None:
        if self.isVisible() and not self.watching.is_running:
            self.watching.look()

    @property
    def chosen(self) -> tuple[int, ...]:
        """The processes that are chosen; empty if there are none."""
        place = self.hosts.currentIndex()
        return self.choices[place] if 0 <= place < len(self.choices) else ()

    def _show_found(self, of: Found) -> None:
        """What can be watched, sound servers first; what was chosen before is still chosen."""
        if self.watching.is_running:
            return
        self._servers = {(server.process,): server for server in of.servers}
        real_time = {host.number: host.real_time_threads for host in of.hosts}
        found = [host for host in of.hosts if (host.number,) not in self._servers]
        words = [told.server_words(s.kind, s.name, real_time.get(s.process, 0)) for s in of.servers]
        words += [told.host_words(h.name, h.plugins, h.real_time_threads, of.names) for h in found]
        choices: list[tuple[int, ...]] = [*self._servers, *((host.number,) for host in found)]
        if len(found) > 1:
            words.append("All of them together, as a server with its clients")
            choices.append(tuple(host.number for host in found))
        if words != [self.hosts.itemText(k) for k in range(self.hosts.count())] or choices != self.choices:
            before = self.chosen
            self.hosts.clear()
            self.hosts.addItems(words)
            self.choices = choices
            self.hosts.setCurrentIndex(choices.index(before) if before in choices else 0 if choices else -1)
        self.hosts.setVisible(bool(choices))
        self.close_look.setVisible(bool(choices))
        if self.shown is None and not self._has_failed:
            self._show_offer(len(found) + len(of.servers))
        elif self.shown is not None:
            self.sentence.button.setText(self._button())
            self.sentence.button.setVisible(bool(choices))

    def _show_offer(self, found: int) -> None:
        """What could be watched, while nothing was."""
        for part in (self.heard, self.hold, self.let_go, self.take, self.keep):
            part.hide()
        self._fold(True)
        if found:
            some = "A host is running." if found == 1 else f"{found} hosts are running."
            advice = "Press play there, then watch it: which plugin takes how much, how full each block is."
            self.sentence.say(some, advice, "quiet", "Watch")
            self._tell(told.hosts_words(found), "quiet", found)
        else:
            advice = (
                "Start your host beside this window and press play. Nothing has to be exported, and nothing is changed "
                "in it: what its threads do is read from the kernel."
            )
            self.sentence.say("No host is running.", advice, "quiet", "Look again")
            self._tell("no host", "quiet")

    def _tell(self, state: str, colour: str, offered: int = 0) -> None:
        """Tells the page's state, and how many hosts it offers to watch."""
        self.state_changed.emit(state, colour)
        self.offered.emit(offered)

    def _fold(self, is_empty: bool) -> None:
        """Words on what to do in place of pictures, while there are none."""
        for part in (self.empty, self.example, self._below):
            part.setVisible(is_empty)
        self.halves.setVisible(not is_empty)
        if is_empty:
            self.past.hide()

    def restyle(self) -> None:
        """Everything in the colours of the theme in force."""
        if self.shown is not None:
            self._show(self.shown)

    def _expect(self) -> None:
        """What the session on the desk lets expect may be another figure now."""
        survey, at = self._desk.survey, self._desk.instant
        self.watching.session = Expected(survey, at)
        if self.shown is not None and self.isVisible():
            before = self.shown.expected
            if before.survey is not survey or before.at is not at:
                self.watching.expect(self.shown)

    def _show_expected(self, of: Snapshot, found: Expected) -> None:
        """Unless something else has been seen since, or the session is another one again."""
        now = self.watching.session
        is_current = found.survey is now.survey and found.at is now.at
        if is_current and self.shown is not None and of.seen is self.shown.seen:
            self._show(self.shown._replace(expected=found))

    def _show(self, of: Snapshot) -> None:
        self.shown, self._has_failed = of, False
        blocks = of.seen.blocks
        late, is_running = of.past.number, self.watching.is_running
        tone = "quiet" if blocks is None else "overload" if late else "tight" if blocks.bad > 0.8 else "fits"
        headline, findings = _said(of)
        said = [of.source, *findings[:NAMED_FINDINGS]] if of.source else findings[:NAMED_FINDINGS]
        self.sentence.say(headline, " ".join(said), tone, "Stop" if is_running else self._button())
        self._fold(False)
        loads, typical = (blocks.load.tolist(), blocks.typical) if blocks is not None else ((), 0.0)
        self.blocks.show_loads(loads, typical, "typical", of.xruns)
        self._show_past(of)
        found = self.before.changes(told.by_name(of.rows), of.seen) if self.before is not None else []
        compared = of.expected.compared
        self._fill(of, {change.name: change for change in found}, compared)
        more = [*findings[NAMED_FINDINGS:], *map(as_sentence, of.events[-3:])]
        if self.before is not None:
            words = told.change_words(found, self.before.slower(of.seen))
            more[:0] = [words, *filter(None, [told.blocks_before(self.before, of.seen)])]
        if compared is not None:
            more.insert(0, told.compared_words(compared))
        self.words.setText("\n".join(more))
        self.roles.setText(f"{', '.join(map(told.part_words, of.parts))}. {of.costs}")
        for part in (self.hold, self.keep):
            part.show()
        self.heard.setVisible(is_running)
        self.take.setVisible(any(row.is_plugin for row in of.rows) and blocks is not None)
        self.let_go.setVisible(self.before is not None)
        if of.source:
            self._tell("a recording", "quiet")
        elif blocks is None:
            self._tell("no cycle", "quiet")
        else:
            self._tell(count(late, "dropout") if late else percent(blocks.bad), "brick" if late else "teal")

    def _show_past(self, of: Snapshot) -> None:
        """All that was seen so far, and the blocks of the dropout that is chosen, or else the fullest."""
        past, found = of.past, of.past.dropouts
        place = next((k for k, each in enumerate(found) if each.time == self._chosen), None)
        self.past.setVisible(bool(past.number) or past.played >= SHOWN_SECONDS)
        self.past.show_past(past, of.lines, place, self.watching.is_running)
        self.to_dropouts.setText(f"Dropouts ({past.number})")
        self.dropouts.show_lines(of.lines, place)
        chosen = shown_of(found[place], past) if place is not None and found[place].lanes else None
        self.lanes.setVisible(chosen is not None or of.worst is not None)
        self.lanes.show_block(of, chosen)

    def _button(self) -> str:
        return "" if not self.chosen else "Watch" if self.shown is None or self.shown.source else "Watch again"

    def make_session(self) -> None:
        """Makes a session of what is shown."""
        of = self.shown
        blocks = of.seen.blocks if of is not None else None
        if of is None or blocks is None:
            return
        found = told.buffer_of(blocks.period)
        if found is None:
            self.words.setText("The cycle belongs to no usual buffer size, so no session can be made of it.")
            return
        try:
            made = session_of(of.seen, *found, of.held, "What was seen")
        except ValueError as error:
            self.words.setText(f"No session was made: {error}.")
            return
        self.taken.emit(made)

    def _fill(self, of: Snapshot, found: dict[str, Change], compared: Compared | None) -> None:
        """The table: plugins first; with what was held as before, how much has changed and whether that is real."""
        gone = [change for name, change in found.items() if all(row.name != name for row in of.rows)]
        self.table.setRowCount(len(of.rows) + len(gone))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        predicted = {each.file: percent(each.predicted) for each in compared.plugins} if compared is not None else {}
        files = of.seen.recording.files
        for place, row in enumerate(of.rows):
            share, change = row.share, found.get(row.name)
            texts = [row.name, percent(share.core), told.between(share) if share.looks else "",
                     percent(share.worst) if of.seen.blocks is not None and share.looks else ""]  # fmt: skip
            expected = predicted.get(files[share.owner - 1], "") if share.owner > 0 else ""
            self._row(place, [*texts, expected, *self._compared(change)], right, share.owner)
        for place, change in enumerate(gone, len(of.rows)):
            self._row(place, [change.name, percent(0), "", "", "", *self._compared(change)], right, None)
        for column in (BEFORE, DIFFERENCE):
            self.table.setColumnHidden(column, not found)
        self.table.setColumnHidden(PREDICTED, compared is None)
        # With both beside it names would be cut.
        self.table.setColumnHidden(IN_WORST, bool(found) and compared is not None)

    @staticmethod
    def _compared(change: Change | None) -> list[str]:
        if change is None:
            return ["", ""]
        chance = "" if change.is_real else " (chance)"
        return [percent(change.before), f"{told.points(change.difference)}{chance}"]

    def _row(self, place: int, texts: list[str], right: Qt.AlignmentFlag, owner: int | None) -> None:
        """Writes a row. Its cells stay what they are: a table takes half a millisecond for each that is another."""
        for column, text in enumerate(texts):
            item = self.table.item(place, column)
            if item is None:
                item = QTableWidgetItem()
                self.table.setItem(place, column, item)
            item.setText(text)
            if column == 0 and item.data(Qt.ItemDataRole.UserRole) != (swatched := [owner, theme.colours.name]):
                item.setData(Qt.ItemDataRole.UserRole, swatched)
                item.setIcon(swatch(owner))
            elif column:
                item.setTextAlignment(right)
            is_quiet = owner is not None and owner <= 0
            item.setData(Qt.ItemDataRole.ForegroundRole, theme.colour("quiet") if is_quiet else None)

    def _show_end(self, sentence: str) -> None:
        self.close_look.setEnabled(True)
        self.hosts.setEnabled(True)
        if self.shown is not None:
            self.heard.hide()
            headline, findings = _said(self.shown)
            said = f"{sentence} {' '.join(findings[:NAMED_FINDINGS])}".strip()
            self.sentence.say(headline, said, "quiet", self._button())
        elif sentence:
            self._has_failed = True
            self.sentence.say("Nothing could be seen.", sentence, "overload", "Look again")
            self._tell("not seen", "brick")
        self.watching.look()

    def _show_failure(self, sentence: str) -> None:
        self.words.setText(sentence)
        if self.shown is None:
            self._has_failed = True
            self.sentence.say("The recording was not opened.", sentence, "overload", "Look again")
