"""Tracking in time: how late a musician hears himself, and what to bypass so that it is soon enough."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QVBoxLayout,
    QWidget,
)

from ...core.survey import Survey, Tracking
from ...core.told.warnings import STILL_LATE
from ...core.units import milliseconds
from ..background.desk import Desk
from ..look.latest import Latest
from ..look.panels import Dialog
from ..look.words import Words


class TrackingDialog(Dialog):
    """`taken` brings the ids of the plugins to bypass. Each limit is asked for beside the window."""

    taken = Signal(list)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__("Track in time", parent)
        self._desk = desk
        self.found: Tracking | None = None
        self.limit, self.waits = QDoubleSpinBox(), QCheckBox("live tracks wait for all others (delay compensation)")
        self.limit.setRange(0.5, 1000)
        self.limit.setValue(12.0)
        self.limit.setSuffix(" ms")
        self.waits.setChecked(True)
        self.words = Words("Working it out…")
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
        self._latest = Latest(self, self._ask)
        self.limit.valueChanged.connect(self._wait)
        self.waits.toggled.connect(self._wait)
        self._ask()

    def _wait(self) -> None:
        """What was found is for another limit."""
        self.found = None
        self.apply.setEnabled(False)
        self._latest.soon()

    def _ask(self) -> None:
        limit, waits = self.limit.value() / 1e3, self.waits.isChecked()
        self.apply.setEnabled(False)
        self._desk.ask(
            lambda beside, of, _: (of, beside.tracking(of, limit, waits)), self._latest.only(self._take),
            "what to bypass could not be worked out",
        )  # fmt: skip

    def _take(self, answer: tuple[Survey, Tracking]) -> None:
        """What it takes for the limit that is typed."""
        of, self.found = answer
        found = self.found
        labels = {use.id: use.label for use in of.planned.uses.uses}
        strips = {u.id: s.name for s in of.session.strips for u in s.uses()}
        said = [f"At {of.buffer} samples it takes {milliseconds(found.now)} now."]
        if not found.bypass.possible:
            said.append("The device's own buffers take longer than that: a smaller buffer is needed.")
        elif not found.bypass.uses:
            said.append("Nothing has to be bypassed.")
        else:
            said.append(f"Bypass these {len(found.bypass.uses)}, and it takes {milliseconds(found.then)}:")
            said += [f"•  {labels[use]} on {strips[use]}" for use in found.bypass.uses[:14]]
            if len(found.bypass.uses) > 14:
                said.append(f"•  and {len(found.bypass.uses) - 14} more")
            said.append(STILL_LATE)
        self.words.setText("\n".join(said))
        self.apply.setEnabled(found.bypass.possible and bool(found.bypass.uses))

    def take(self) -> None:
        if self.found is not None:
            self.taken.emit(list(self.found.bypass.uses))
            self.accept()
