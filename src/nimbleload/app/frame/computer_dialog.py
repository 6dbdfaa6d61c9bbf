"""Another computer: how many cores it has, and how fast they are against this one's."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QLabel,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from ...core.session.computer import Machine
from ...store.this_computer import from_here, this_computer
from ..look.panels import Dialog
from ..look.theme import theme

WORDS = (
    "How would the session run on another computer? Figures are divided by the speed, and marked as scaled. The speed "
    "is that of one core: the time that a render of one track takes here, divided by the time that it takes there."
)


class ComputerDialog(Dialog):
    """`chosen` brings the machine."""

    chosen = Signal(object)

    def __init__(self, machine: Machine, parent: QWidget | None = None) -> None:
        super().__init__("Another computer", parent)
        self._machine = machine
        self.cores, self.speed = QSpinBox(), QDoubleSpinBox()
        self.cores.setRange(1, 1024)
        self.cores.setValue(machine.cores)
        self.speed.setRange(0.05, 20)
        self.speed.setSingleStep(0.05)
        self.speed.setSuffix(" × as fast as here")
        self.speed.setValue(machine.speed)
        words = QLabel(WORDS)
        words.setWordWrap(True)
        words.setMinimumWidth(theme.px(420))
        form = QFormLayout()
        form.addRow("Cores", self.cores)
        form.addRow("One core is", self.speed)
        kinds = QDialogButtonBox.StandardButton
        buttons = QDialogButtonBox(kinds.Ok | kinds.Cancel | kinds.RestoreDefaults)
        here = buttons.button(kinds.RestoreDefaults)
        here.setText("This computer")
        here.clicked.connect(self._here)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(words)
        column.addLayout(form)
        column.addWidget(buttons)

    def _here(self) -> None:
        self.cores.setValue(this_computer().cores)
        self.speed.setValue(1.0)

    def accept(self) -> None:
        asked = Machine(self.cores.value(), self.speed.value())
        is_same = (asked.cores, asked.speed) == (self._machine.cores, self._machine.speed)
        self.chosen.emit(self._machine if is_same else from_here(asked))
        super().accept()
