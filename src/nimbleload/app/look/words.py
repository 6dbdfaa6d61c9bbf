"""A label that shows its words as they are."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget


class Words(QLabel):
    """Words that are no markup, whatever names are among them; who wants markup says so."""

    def __init__(self, words: str = "", parent: QWidget | None = None) -> None:
        super().__init__(words, parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
