"""Preferences: the theme, the size of text, and whether pages explain themselves."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QDialogButtonBox, QFormLayout, QVBoxLayout, QWidget

from ..look.panels import Dialog
from ..look.theme import SCALES
from ..look.words import Words

THEMES = {"night": "Night", "paper": "Paper", "desktop": "As the desktop"}


class Preferences(Dialog):
    """Each choice is in force at once: `theme_chosen`, `scale_chosen` (per cent), `hints_chosen`."""

    theme_chosen = Signal(str)
    scale_chosen = Signal(int)
    hints_chosen = Signal(bool)

    def __init__(self, theme: str, scale: int, hints: bool, parent: QWidget | None = None) -> None:
        super().__init__("Preferences", parent)
        self.theme, self.scale = QComboBox(), QComboBox()
        for name, words in THEMES.items():
            self.theme.addItem(words, name)
        self.theme.setCurrentIndex(self.theme.findData(theme))
        for size in SCALES:
            self.scale.addItem(f"{size} %", size)
        self.scale.setCurrentIndex(self.scale.findData(scale))
        self.hints = QCheckBox("Each page says what it is for, until that is closed")
        self.hints.setChecked(hints)
        where = Words("Limit, weights and disk space belong to the plan (Balance); host and cores to the session.")
        where.setWordWrap(True)
        where.setProperty("role", "quiet")
        form = QFormLayout()
        form.addRow("Colours", self.theme)
        form.addRow("Size of text", self.scale)
        form.addRow("", self.hints)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(where)
        column.addWidget(buttons)
        self.theme.currentIndexChanged.connect(lambda _: self.theme_chosen.emit(self.theme.currentData()))
        self.scale.currentIndexChanged.connect(lambda _: self.scale_chosen.emit(self.scale.currentData()))
        self.hints.toggled.connect(self.hints_chosen)
