"""Under a cost card: which settings would save what, and variants made of them; what is lighter in the family."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QAbstractItemView, QHBoxLayout, QListWidget, QPushButton, QVBoxLayout, QWidget

from ...core.cards.card import CostCard, Effect
from ...core.cards.comparison import Lighter, savings
from ...core.told.card_comparison import lighter_words, sweep_sentences
from ...core.units import microseconds, percent
from ..look.theme import theme
from ..look.words import Words

ROWS_SHOWN = 6


class SettingsView(QWidget):
    """`try_wanted`: try the settings out; `variant_wanted`: make a variant of the chosen values (list of Effect)."""

    try_wanted = Signal()
    variant_wanted = Signal(list)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._title, self._words, self._lighter = Words("Settings and what they save"), Words(), Words()
        self._title.setProperty("role", "title")
        for label in (self._words, self._lighter):
            label.setWordWrap(True)
        self.list = QListWidget()
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.MultiSelection)
        self.list.setAccessibleName("Settings that save something, the most first")
        self.attempt, self.keep = QPushButton("Try the settings"), QPushButton("Keep as a variant")
        self.keep.setToolTip("The chosen values become another setting of this plugin that a plan can use.")
        self._effects: list[Effect] = []
        buttons = QHBoxLayout()
        buttons.addWidget(self.attempt)
        buttons.addWidget(self.keep)
        buttons.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 0)
        for part in (self._title, self._words, self.list):
            column.addWidget(part)
        column.addLayout(buttons)
        column.addWidget(self._lighter)
        self.attempt.clicked.connect(self.try_wanted)
        self.keep.clicked.connect(lambda: self.variant_wanted.emit(self.chosen()))
        self.list.itemSelectionChanged.connect(self._show_keep)

    def show_card(self, card: CostCard | None, better: list[Lighter], trying: bool) -> None:
        """Shows what is known of the settings; `trying` while they are tried out."""
        sweep = card.sweep if card is not None else None
        found = savings(sweep) if sweep is not None else []
        if [effect for effect, _ in found] != self._effects:
            self._effects = [effect for effect, _ in found]
            self.list.clear()
            for effect, share in found:
                self.list.addItem(f"{percent(share):>6} less   {effect.words}   ({microseconds(effect.seconds)})")
        self.list.setVisible(bool(found))
        row = max(self.list.sizeHintForRow(0), theme.px(14))
        self.list.setFixedHeight(row * min(len(found), ROWS_SHOWN) + theme.px(4))
        words = " ".join(sweep_sentences(sweep)) if sweep else "Not tried yet. It takes up to half a minute."
        self._words.setText(f"Trying: {len(sweep.effects) if sweep else 0} values so far." if trying else words)
        self.attempt.setText("Try them again" if sweep is not None else "Try the settings")
        each = [lighter_words(other) for other in better]
        self._lighter.setText(f"Lighter in the same family: {'; '.join(each)}." if each else "")
        self._lighter.setVisible(bool(each))
        self._show_keep()

    def chosen(self) -> list[Effect]:
        return [self._effects[index.row()] for index in self.list.selectedIndexes()]

    def _show_keep(self) -> None:
        self.keep.setVisible(self.list.count() > 0)
        self.keep.setEnabled(bool(self.chosen()))
