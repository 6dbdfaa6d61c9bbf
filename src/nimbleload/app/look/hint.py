"""A line under the sentence of a page for those who see it for the first time; closed once, it stays away."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QWidget

from .words import Words


class Hint(QFrame):
    """`closed` says that it is not wanted any more."""

    closed = Signal()

    def __init__(self, words: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self.words = Words(words)
        self.words.setWordWrap(True)
        self.words.setProperty("role", "quiet")
        self.button = QPushButton("Got it")
        self.button.setProperty("role", "narrow")
        self.button.setAccessibleName("Close this hint for good")
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 3, 8, 3)
        row.addWidget(self.words, 1)
        row.addWidget(self.button)
        self.setAccessibleName(words)
        self.button.clicked.connect(self.closed)
