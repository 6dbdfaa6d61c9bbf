"""A place in the piece as one types it: minutes and seconds, or seconds alone."""

from __future__ import annotations

import re

from PySide6.QtGui import QValidator
from PySide6.QtWidgets import QDoubleSpinBox, QWidget

from ...core.units import exact_clock, from_clock

ON_THE_WAY = re.compile(r"\d*(:\d{0,2})?([.,]\d*)?")


class ClockBox(QDoubleSpinBox):
    """Shows "2:14.5", and takes that as well as "134.5"; its value is in seconds."""

    def __init__(self, seconds: float, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setRange(0.0, 1e6)
        self.setDecimals(2)
        self.setValue(seconds)
        self.setToolTip("Minutes and seconds, as 2:14.5, or seconds alone")

    def textFromValue(self, value: float) -> str:
        return exact_clock(value)

    def valueFromText(self, text: str) -> float:
        text = text.strip().replace(",", ".")
        return from_clock(f"{text}0" if text.endswith(":") else text)

    def validate(self, text: str, place: int) -> tuple[QValidator.State, str, int]:
        state = QValidator.State
        if not ON_THE_WAY.fullmatch(text.strip()):
            return state.Invalid, text, place
        try:
            is_one = self.minimum() <= self.valueFromText(text) <= self.maximum()
        except ValueError:
            is_one = False
        return (state.Acceptable if is_one else state.Intermediate), text, place
