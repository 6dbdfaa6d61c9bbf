"""Panes that change together are shown one after the other, so that the window can answer in between."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

# What changes is painted within this time by the window system; the next pane comes after.
TURN_MS = 10


class Turns(QObject):
    """Calls one thing after the other, each in a turn of the event loop of its own."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._left: list[Callable[[], object]] = []
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(TURN_MS)
        self._timer.timeout.connect(self._next)

    def take(self, *calls: Callable[[], object]) -> None:
        """Has these called in their turns. What is still to come from before keeps its place, and comes but once: so
        everything gets its turn, however often this is asked (while something is dragged)."""
        self._left += [call for call in calls if call not in self._left]
        if not self._timer.isActive():
            self._timer.start()

    @property
    def is_through(self) -> bool:
        """Whether nothing is still to come."""
        return not self._left

    def _next(self) -> None:
        call, *self._left = self._left
        if self._left:
            self._timer.start()
        call()
