"""Stand-ins for all plugins without figures, chosen in one list."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QDialogButtonBox, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from ...core.cards.stand_ins import StandIn
from ...core.session.plugins import PluginUse
from ...core.units import agreeing
from ..look.panels import Dialog, dress_table, size_table
from ..look.words import Words

HEADINGS = ("Without figures", "Setting", "Stands in")
NOBODY = "nobody"
WIDTHS = {0: 190, 1: 190, 2: 300}


class StandInsDialog(Dialog):
    """A row for each; the likeliest stands in unless another is chosen, or nobody. `chosen` brings (use, other)."""

    chosen = Signal(list)

    def __init__(self, suggested: Sequence[StandIn], parent: QWidget | None = None) -> None:
        super().__init__("Stand-ins", parent)
        self._suggested = suggested
        words = Words(
            f"{agreeing(len(suggested), 'setting has', 'settings have')} no figures and could have a stand-in: the "
            "same plugin in another standard, or one of its family whose name is most alike. It lends its cost, marked "
            "as such wherever it counts."
            if suggested else "Nothing that has figures is like any of those that have none."
        )
        words.setWordWrap(True)
        self.table = QTableWidget(len(suggested), len(HEADINGS))
        dress_table(self.table, HEADINGS, "Plugins without figures, and what stands in", Qt.AlignmentFlag.AlignLeft)
        size_table(self.table, 28, WIDTHS)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.others: list[QComboBox] = []
        for row, each in enumerate(suggested):
            other = QComboBox()
            other.setAccessibleName(f"What stands in for {each.use.label}")
            other.addItems([_words(use) for use in each.others])
            other.addItem(NOBODY)
            self.others.append(other)
            for column, text in enumerate((each.use.label, each.use.setting.words())):
                self.table.setItem(row, column, QTableWidgetItem(text))
            self.table.setCellWidget(row, len(HEADINGS) - 1, other)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column_ = QVBoxLayout(self)
        column_.addWidget(words)
        column_.addWidget(self.table, 1)
        column_.addWidget(buttons)
        self.resize(sum(WIDTHS.values()) + 60, 420)

    def accept(self) -> None:
        picked = [
            (each.use, each.others[box.currentIndex()])
            for each, box in zip(self._suggested, self.others, strict=True) if box.currentIndex() < len(each.others)
        ]  # fmt: skip
        self.chosen.emit(picked)
        super().accept()


def _words(use: PluginUse) -> str:
    """A plugin with its standard and setting."""
    return f"{use.label} ({use.words_with_standard()})"
