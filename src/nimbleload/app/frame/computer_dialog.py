"""Another computer: how many cores it has, how many of these are second threads, how fast they are against this one's,
and how much memory there is."""

from __future__ import annotations

from msgspec.structs import replace
from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from ...core.session.computer import Machine
from ...store.this_computer import from_here, this_computer
from ..look.panels import Dialog
from ..look.theme import theme
from ..look.words import Words

WORDS = (
    "How would the session run on another computer? Figures are divided by the speed, and marked as scaled. The speed "
    "is that of one core: the time that a render of one track takes here, divided by the time that it takes there."
)

GIGABYTE = 2**30


class ComputerDialog(Dialog):
    """`chosen` brings the machine."""

    chosen = Signal(object)

    def __init__(self, machine: Machine, parent: QWidget | None = None) -> None:
        super().__init__("Another computer", parent)
        self._machine = machine
        self.cores, self.second, self.speed, self.memory = QSpinBox(), QSpinBox(), QDoubleSpinBox(), QDoubleSpinBox()
        self.cores.setRange(1, 1024)
        self.cores.valueChanged.connect(lambda cores: self.second.setMaximum(cores // 2))
        self.cores.setValue(machine.cores)
        self.second.setMaximum(machine.cores // 2)
        self.second.setValue(machine.second)
        self.second.setSpecialValueText("none: each is a real one")
        self.speed.setRange(0.05, 20)
        self.speed.setSingleStep(0.05)
        self.speed.setSuffix(" × as fast as here")
        self.speed.setValue(machine.speed)
        self.memory.setRange(0, 16_384)
        self.memory.setDecimals(1)
        self.memory.setSuffix(" GB")
        self.memory.setSpecialValueText("not known")
        self.memory.setValue(machine.memory / GIGABYTE)
        words = Words(WORDS)
        words.setWordWrap(True)
        words.setMinimumWidth(theme.px(420))
        form = QFormLayout()
        form.addRow("Cores", self.cores)
        form.addRow("Of these second threads", self.second)
        form.addRow("One core is", self.speed)
        form.addRow("Memory", self.memory)
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
        here = this_computer()
        self.cores.setValue(here.cores)
        self.second.setValue(here.second)
        self.speed.setValue(1.0)
        self.memory.setValue(here.memory / GIGABYTE)

    def accept(self) -> None:
        cores, second, speed, was = self.cores.value(), self.second.value(), self.speed.value(), self._machine
        # With the same cores it keeps all else that is known of them.
        asked = Machine(cores, second=second) if (cores, second) != (was.cores, was.second) else was
        # As it stands there, it is what it was, to the byte.
        same = abs(self.memory.value() - was.memory / GIGABYTE) < 0.05
        memory = was.memory if same else self.memory.value() * GIGABYTE
        # With more memory it would be this computer still.
        self.chosen.emit(replace(from_here(replace(asked, speed=speed)), memory=memory))
        super().accept()
