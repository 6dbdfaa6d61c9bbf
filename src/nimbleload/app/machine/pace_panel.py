"""How long this computer keeps its pace: looked for, shown, and taken into what sessions are computed for."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.computer.lasting import Lasting
from ...core.told.lasting import WHY, goes_on_words, lasting_words
from ..look.words import Words
from .looking import Looking
from .pace_view import PaceView


class PacePanel(QWidget):
    """The part of the page. `running` says whether it is being looked for, `taken` how fast the computer is then
    against at first: sessions are to be computed for that."""

    running = Signal(bool)
    taken = Signal(float)

    def __init__(self, looking: Looking, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._looking = looking
        self.known: Lasting | None = None
        self._is_running = False
        self.view, self.words = PaceView(), Words(WHY)
        self.seek, self.stop, self.take = QPushButton(), QPushButton("Stop"), QPushButton()
        title = Words("How long it keeps its pace")
        title.setProperty("role", "title")
        self.words.setWordWrap(True)
        self.words.setProperty("role", "quiet")
        buttons = QHBoxLayout()
        for button in (self.seek, self.stop):
            buttons.addWidget(button)
        buttons.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for part in (title, self.view, self.words):
            column.addWidget(part)
        column.addLayout(buttons)
        column.addWidget(self.take, 0, Qt.AlignmentFlag.AlignLeft)
        self.seek.clicked.connect(self.start)
        self.stop.clicked.connect(looking.stop)
        self.take.clicked.connect(self._take)
        looking.paced.connect(self._show_so_far)
        looking.lasts.connect(self.show_lasting)
        looking.pace_ended.connect(self._show_end)
        self.show_session(False)
        self._show_state()

    def start(self) -> None:
        """Looks for it."""
        if not self._looking.is_finding:
            self.words.setText("Begins.")
            self._begin_or_end(True)
            self._looking.find_pace()

    def show_session(self, is_open: bool) -> None:
        """Whether a session is open, which could be computed for this pace."""
        self.take.setEnabled(is_open)

    def show_lasting(self, of: Lasting | None) -> None:
        """Shows what is known of it, if anything is."""
        self.known = of
        # What is known already is told anew whenever the computer is looked at.
        if not self._is_running:
            self._show_known()
            self._show_state()

    def _show_known(self, before: str = "") -> None:
        self.words.setText(f"{before} {lasting_words(self.known) if self.known is not None else WHY}".strip())
        if self.known is not None:
            self.view.show_pace(self.known)

    def _show_so_far(self, of: Lasting) -> None:
        self.words.setText(goes_on_words(of))
        self.view.show_pace(of)

    def _show_end(self, sentence: str) -> None:
        self._show_known(sentence)
        self._begin_or_end(False)

    def _begin_or_end(self, is_running: bool) -> None:
        self._is_running = is_running
        self._show_state()
        self.running.emit(is_running)

    def _show_state(self) -> None:
        known, is_running = self.known, self._is_running
        self.stop.setVisible(is_running)
        self.seek.setVisible(not is_running)
        self.seek.setText("Hold a load for some minutes" + (" again" if known is not None else ""))
        self.view.setVisible(is_running or known is not None)
        is_slower = known is not None and known.slower > 1.0 and not is_running
        if known is not None and is_slower:
            self.take.setText(f"Compute sessions {known.slower:.2f} times slower")
        self.take.setVisible(is_slower)

    def _take(self) -> None:
        if self.known is not None:
            self.taken.emit(1 / self.known.slower)
