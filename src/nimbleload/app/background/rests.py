"""Python's search for garbage among everything that is there, kept for moments in which nobody does anything: at 500
tracks it stops the window for 20 to 40 milliseconds, whenever it happens to come.
"""

from __future__ import annotations

import gc
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QApplication

# So often it is asked whether nobody does anything (ms); so many times in vain at most, once it is due. It is after so
# many searches among what is younger.
ASKED_MS, IN_VAIN, DUE = 2000, 30, 10
NEVER = 1 << 30


class Rests(QObject):
    """From now on until `end` that search is made when `is_idle` says so, and the mouse has not moved."""

    def __init__(self, is_idle: Callable[[], bool], parent: QObject) -> None:
        super().__init__(parent)
        self._is_idle, self._at, self._in_vain = is_idle, QCursor.pos(), 0
        self._before = gc.get_threshold()
        gc.set_threshold(*self._before[:2], NEVER)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.look)
        self._timer.start(ASKED_MS)

    def look(self) -> None:
        """Makes the search, if it is due and does not disturb or has been put off for long enough."""
        rests = self._is_idle() and QCursor.pos() == self._at and QApplication.mouseButtons().value == 0
        self._at = QCursor.pos()
        if gc.get_count()[2] < DUE:
            return
        if rests or self._in_vain >= IN_VAIN:
            gc.collect()
            self._in_vain = 0
        else:
            self._in_vain += 1

    def end(self) -> None:
        """From now on it comes when it comes."""
        self._timer.stop()
        gc.set_threshold(*self._before)
