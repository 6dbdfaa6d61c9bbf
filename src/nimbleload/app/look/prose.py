"""Words that go on in as many lines as they need, with no line between a figure and its unit."""

from __future__ import annotations

import re

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget

_BEFORE_UNIT = re.compile(r"(?<=\d) (?=(?:%|ms|µs|s|min|kB|MB|GB|Hz|kHz|dB)(?!\w))")


class Prose(QLabel):
    """A label that wraps its words. `text` is what was said, whatever stands between a figure and its unit."""

    def __init__(self, said: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._said = ""
        self.setWordWrap(True)
        # Names may look like markup.
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(said)

    def setText(self, said: str) -> None:
        self._said = said
        super().setText(_BEFORE_UNIT.sub("\N{NO-BREAK SPACE}", said))

    def text(self) -> str:
        return self._said
