"""Figures from elsewhere for a plugin that cannot be measured here: readings of a meter, or a stand-in."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QVBoxLayout,
    QWidget,
)

from ...core.cards.card import Cards, CostCard
from ...core.cards.stand_ins import Reading
from ...core.session.computer import BUFFER_SIZES
from ...core.session.plugins import CardKey, PluginUse
from ..look.panels import Dialog
from ..look.words import Words

NOBODY = "nobody"


class ElsewhereDialog(Dialog):
    """Asks for one or two readings, or for the card that is to stand in. `typed` and `stands_in` bring the answer."""

    typed = Signal(list)
    stands_in = Signal(object)

    def __init__(
        self, use: PluginUse, uses: dict[CardKey, PluginUse], cards: Cards, buffer: int, parent: QWidget | None = None
    ) -> None:
        super().__init__(f"Figures for {use.label}", parent)
        words = Words(
            "Type what a host's meter shows for this plugin alone, in per cent of one core: at one buffer size, or "
            "better at two. Or let another plugin that is measured stand in for it. Both are marked as such wherever "
            "they count."
        )
        words.setWordWrap(True)
        self.shares, self.sizes = [], []
        form = QFormLayout()
        for name, size in (("First reading", buffer), ("Second reading", 1024 if buffer < 1024 else 128)):
            share, sizes = QDoubleSpinBox(), QComboBox()
            share.setRange(0, 10_000)
            share.setDecimals(2)
            share.setSuffix(" % of one core")
            share.setSpecialValueText("none")
            share.setAccessibleName(f"{name}, per cent of one core")
            sizes.addItems([f"{each} samples" for each in BUFFER_SIZES])
            sizes.setCurrentIndex(BUFFER_SIZES.index(size) if size in BUFFER_SIZES else 3)
            sizes.setAccessibleName(f"{name}, buffer size")
            form.addRow(name, share)
            form.addRow("at", sizes)
            self.shares.append(share)
            self.sizes.append(sizes)
        self.other = QComboBox()
        self.other.addItem(NOBODY)
        self._cards: list[CostCard] = []
        for key, other in uses.items():
            card = cards.get(key)
            if card is not None and card.cells and key != use.card_key():
                self._cards.append(card)
                self.other.addItem(f"{other.label} ({other.setting.words()})")
        form.addRow("Stand-in", self.other)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(words)
        column.addLayout(form)
        column.addWidget(buttons)

    def accept(self) -> None:
        readings = [
            Reading(BUFFER_SIZES[sizes.currentIndex()], share.value() / 100)
            for share, sizes in zip(self.shares, self.sizes, strict=True)
            if share.value() > 0
        ]
        if self.other.currentIndex() > 0:
            self.stands_in.emit(self._cards[self.other.currentIndex() - 1])
        elif readings:
            self.typed.emit(readings)
        super().accept()
