"""Words that go on in as many lines as they need, with no line between a figure and its unit."""

from __future__ import annotations

import re

from PySide6.QtWidgets import QWidget

from .words import Words

_BEFORE_UNIT = re.compile(r"(?<=\d) (?=(?:%|ms|µs|s|min|kB|MB|GB|Hz|kHz|dB)(?!\w))")


class Prose(Words):
    """A label that wraps its words. `text` is what was said, whatever stands between a figure and its unit."""

    def __init__(self, said: str = "", parent: QWidget | None = None) -> None:
        super().__init__("", parent)
        self._said = ""
        self.setWordWrap(True)
        self.setText(said)

    def setText(self, said: str) -> None:
        self._said = said
        super().setText(_BEFORE_UNIT.sub("\N{NO-BREAK SPACE}", said))

    def text(self) -> str:
        return self._said
