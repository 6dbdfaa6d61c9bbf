"""A test load beside the user's own host: raised and lowered by key while he listens, "does it crackle?"."""

from __future__ import annotations

import logging

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QSlider, QVBoxLayout, QWidget

from ...core.computer.by_ear import ByEar
from ...core.computer.ceiling import Held
from ...core.told import ceiling as told
from ...core.units import percent, told_by
from ...machine.hold import Asked
from ...machine.test_load import MOST, TestLoad
from ...native.cores import cores
from ..background.to_window_thread import ToWindowThread
from ..look.words import Words

log = logging.getLogger(__name__)

SIZES = (32, 64, 128, 256, 512, 1024, 2048)
USUAL, FIRST, STEP = 256, 10, 5
WORDS = (
    "Work of a known size runs beside your own host and goes before it. Play there, raise the load with ↑ until it "
    "crackles, and press C: what was clean before is what your computer has left. Esc ends it."
)


class LoadPanel(QWidget):
    """The part of the page. `running` says whether a load runs."""

    running = Signal(bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._load: TestLoad | None = None
        self.heard = ByEar()
        self.buffer, self.level = QComboBox(), QSlider(Qt.Orientation.Horizontal)
        self.press, self.crackles = QPushButton(), QPushButton("It crackles (C)")
        self.words, self.result, self.figure = Words(WORDS), Words(), Words()
        self._lay_out()
        self.press.clicked.connect(self._pressed)
        self.crackles.clicked.connect(self.note_crackle)
        self.level.valueChanged.connect(self._level_changed)
        self.buffer.currentIndexChanged.connect(self._buffer_changed)
        self._show_state()

    def _lay_out(self) -> None:
        title = Words("Test load: does it crackle?")
        title.setProperty("role", "title")
        for size in SIZES:
            self.buffer.addItem(f"{size} samples", size)
        self.buffer.setCurrentIndex(SIZES.index(USUAL))
        self.buffer.setAccessibleName("Buffer size of your host")
        self.level.setRange(0, round(MOST * 100))
        self.level.setSingleStep(STEP)
        self.level.setPageStep(2 * STEP)
        self.level.setValue(FIRST)
        self.level.setAccessibleName("Load on each core")
        self.figure.setText(percent(FIRST / 100))
        for label in (self.words, self.result):
            label.setWordWrap(True)
        self.words.setProperty("role", "quiet")
        row = QHBoxLayout()
        row.addWidget(self.buffer)
        row.addWidget(self.level, 1)
        row.addWidget(self.figure)
        buttons = QHBoxLayout()
        for button in (self.press, self.crackles):
            buttons.addWidget(button)
        buttons.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(title)
        column.addWidget(self.words)
        column.addLayout(row)
        column.addLayout(buttons)
        column.addWidget(self.result)

    @property
    def is_running(self) -> bool:
        return self._load is not None

    @property
    def process(self) -> int:
        """The number of the load's process; 0 while none runs."""
        return self._load.process if self._load is not None else 0

    def _show_state(self) -> None:
        self.press.setText("End the test load" if self.is_running else "Begin a test load")
        self.crackles.setEnabled(self.is_running)
        said = told.by_ear_words(self.heard)
        self.result.setText(said)
        self.result.setVisible(bool(said))

    def _pressed(self) -> None:
        if self.is_running:
            self.end()
        else:
            self.begin()

    def begin(self) -> None:
        """Begins a load on all cores, at the buffer size and level that are chosen."""
        asked = Asked(self.buffer.currentData(), 48000, cores().order, 0.0)
        self.heard = ByEar()
        try:
            self._load = TestLoad(asked, self.level.value() / 100, lambda held: self._to_window.post(self._show, held))
        except OSError as error:
            log.exception("a test load did not begin")
            self.words.setText(f"The test load did not begin: {told_by(error)}.")
            return
        self.words.setText("Begins.")
        self.level.setFocus()
        self._show_state()
        self.running.emit(True)

    def end(self) -> None:
        """Ends the load; what was heard stays."""
        if self._load is not None:
            load, self._load = self._load, None
            self._note_ran(load)
            load.close()
            self.words.setText(WORDS)
            self._show_state()
            self.running.emit(False)

    def note_crackle(self) -> None:
        """The user hears it crackle with the load that runs."""
        if self.is_running:
            self.heard = self.heard.crackle(self.level.value() / 100)
            self._show_state()

    def _level_changed(self, level: int) -> None:
        self.figure.setText(percent(level / 100))
        if self._load is not None:
            self._load.set(level / 100)

    def _buffer_changed(self) -> None:
        """Another buffer size is another test."""
        if self.is_running:
            self.end()
            self.begin()

    def _note_ran(self, load: TestLoad) -> None:
        self.heard = self.heard.run(self.level.value() / 100, load.lasted)

    def _show(self, held: Held | None) -> None:
        if held is None:
            if self._load is not None:
                self._load.close()
                self._load = None
                self.words.setText("The test load has ended by itself.")
                self._show_state()
                self.running.emit(False)
            return
        if self._load is not None and held.blocks:
            self.words.setText(told.load_words(held, self.buffer.currentData(), len(cores().order)))
            if abs(held.load - self.level.value() / 100) < 1e-6:
                self._note_ran(self._load)
                self._show_state()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.is_running and event.key() == Qt.Key.Key_C:
            self.note_crackle()
        elif self.is_running and event.key() == Qt.Key.Key_Escape:
            self.end()
        else:
            super().keyPressEvent(event)

    def close_load(self) -> None:
        """Ends it for good, with the window."""
        self._to_window.close()
        self.end()
