"""How often widgets are painted."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject


class Paintings(QObject):
    """Counts how often widgets are painted."""

    def __init__(self, *widgets):
        super().__init__()
        self.count = dict.fromkeys(widgets, 0)
        for each in widgets:
            each.installEventFilter(self)

    def eventFilter(self, of, event):
        if of in self.count:
            self.count[of] += event.type() == QEvent.Type.Paint
        return False
