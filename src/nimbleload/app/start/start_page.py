"""Start: what one can begin with, and the files that were open lately."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from ...core.told import watching as told
from ..look.literal import literal
from ..look.panels import headed, panel
from ..look.sentence import Sentence
from ..look.words import Words

# Each way to begin: its name, the words on the button, and what comes of it.
WAYS = (
    ("watch", "Watch a running host",
     "Start your host beside this window and press play: within seconds you see which plugin takes how much, how full "
     "each block is, and which thread is late. Nothing is changed in it."),
    ("machine", "Look at the computer",
     "Is it the plugins at all? What of this computer makes blocks late, and what to do about it; and the load that it "
     "can hold."),
    ("open", "Open a session…",
     "An exchange file (.dawproject) or a session of this program (.nimbleload): the load of every moment at every "
     "buffer size, and the plan that gives up least."),
    ("audio", "Make one from audio files…",
     "A folder of stems: a track a file, folders as buses, sounding where the files do. Plugins are added from those "
     "that are installed here."),
    ("new", "Begin an empty session…", "Tracks, buses and plugins by hand: would it fit?"),
    ("example", "See the example",
     "Seventy-four tracks of a made-up scene, with audio of their own, to try everything on."),
)  # fmt: skip


class StartPage(QWidget):
    """The page. `begin` says what each way does; `opened` brings a file that was open lately."""

    opened = Signal(object)

    def __init__(self, begin: Mapping[str, Callable[[], object]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._begin = begin
        self.sentence = Sentence()
        self.buttons: dict[str, QPushButton] = {}
        self.recent: list[QPushButton] = []
        self._recent_title = Words("Open lately")
        self._recent_title.setProperty("role", "title")
        self._list = QVBoxLayout()
        self._lay_out()
        advice = "Begin with what you have. F1 opens the guide, with “Why does it crackle?”."
        self.sentence.say("Where does it crackle?", advice, "quiet")

    def _lay_out(self) -> None:
        frame, inside = panel()
        ways = QGridLayout()
        ways.setHorizontalSpacing(16)
        ways.setVerticalSpacing(12)
        ways.setColumnStretch(1, 1)
        for row, (name, words, what) in enumerate(WAYS):
            button, label = QPushButton(words), Words(what)
            label.setWordWrap(True)
            label.setProperty("role", "quiet")
            button.setAccessibleDescription(what)
            button.clicked.connect(lambda _=False, name=name: self._begin[name]())
            ways.addWidget(button, row, 0)
            ways.addWidget(label, row, 1, Qt.AlignmentFlag.AlignVCenter)
            self.buttons[name] = button
        inside.addLayout(ways)
        inside.addSpacing(18)
        inside.addWidget(self._recent_title)
        inside.addLayout(self._list)
        inside.addStretch(1)
        headed(self, self.sentence).addWidget(frame, 1)

    def show_recent(self, paths: Sequence[Path]) -> None:
        """Shows the files that were open lately, the latest first."""
        for button in self.recent:
            self._list.removeWidget(button)
            button.deleteLater()
        self.recent = []
        for path in paths:
            button = QPushButton(literal(f"{path.name}   {path.parent}"))
            button.setProperty("role", "word")
            button.clicked.connect(lambda _=False, path=path: self.opened.emit(path))
            self._list.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)
            self.recent.append(button)
        self._recent_title.setVisible(bool(paths))

    def show_hosts(self, found: int) -> None:
        """Says on the first button how many hosts run."""
        self.buttons["watch"].setText(f"{WAYS[0][1]} ({told.hosts_words(found)} running)" if found else WAYS[0][1])
