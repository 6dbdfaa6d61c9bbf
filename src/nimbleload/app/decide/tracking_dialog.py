"""Tracking in time: how late a musician hears himself, and what to bypass so that it is soon enough."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QLabel,
    QVBoxLayout,
    QWidget,
)

from ...core.survey import Survey, Tracking, tracking
from ...core.units import milliseconds
from ..look.panels import Dialog


class TrackingDialog(Dialog):
    """`taken` brings the ids of the plugins to bypass."""

    taken = Signal(list)

    def __init__(self, of: Survey, parent: QWidget | None = None) -> None:
        super().__init__("Track in time", parent)
        self._of = of
        self.found: Tracking | None = None
        self.limit, self.waits = QDoubleSpinBox(), QCheckBox("live tracks wait for all others (delay compensation)")
        self.limit.setRange(0.5, 1000)
        self.limit.setValue(12.0)
        self.limit.setSuffix(" ms")
        self.waits.setChecked(True)
        self.words = QLabel()
        self.words.setWordWrap(True)
        form = QFormLayout()
        form.addRow("At most, from input to output", self.limit)
        form.addRow("", self.waits)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Apply | QDialogButtonBox.StandardButton.Close)
        self.apply = self.buttons.button(QDialogButtonBox.StandardButton.Apply)
        self.apply.setText("Take into the plan")
        self.apply.clicked.connect(self.take)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addWidget(self.words)
        column.addWidget(self.buttons)
        self.limit.valueChanged.connect(self.show_answer)
        self.waits.toggled.connect(self.show_answer)
        self.show_answer()

    def show_answer(self) -> None:
        """What it takes for the limit that is typed."""
        self.found = tracking(self._of, self.limit.value() / 1e3, self.waits.isChecked())
        labels = {use.id: use.label for use in self._of.planned.uses.uses}
        strips = {u.id: s.name for s in self._of.session.strips for u in s.uses()}
        found = self.found
        said = [f"At {self._of.buffer} samples it takes {milliseconds(found.now)} now."]
        if not found.bypass.possible:
            said.append("The device's own buffers take longer than that: a smaller buffer is needed.")
        elif not found.bypass.uses:
            said.append("Nothing has to be bypassed.")
        else:
            said.append(f"Bypass these {len(found.bypass.uses)}, and it takes {milliseconds(found.then)}:")
            said += [f"•  {labels[use]} on {strips[use]}" for use in found.bypass.uses[:14]]
            if len(found.bypass.uses) > 14:
                said.append(f"•  and {len(found.bypass.uses) - 14} more")
        self.words.setText("\n".join(said))
        self.apply.setEnabled(found.bypass.possible and bool(found.bypass.uses))

    def take(self) -> None:
        if self.found is not None:
            self.taken.emit(list(self.found.bypass.uses))
            self.accept()
