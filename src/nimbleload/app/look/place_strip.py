"""The strip across the top: the places in the order of the work, each with its state in a word or a figure."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QButtonGroup, QHBoxLayout, QVBoxLayout, QWidget

from .elided import Elided
from .theme import theme


class PlaceButton(QAbstractButton):
    """One place: its name, and below it its state."""

    def __init__(self, name: str, key: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setText(name)
        self.setCheckable(True)
        self.setToolTip(f"{name} ({key})")
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._state, self._colour = "—", "quiet"

    def show_state(self, state: str, colour: str = "quiet") -> None:
        """What is to be said of this place, in a word; `colour` is a name of the theme's."""
        self._state, self._colour = state, colour
        self.setAccessibleName(f"{self.text()}: {state}")
        self.updateGeometry()
        self.update()

    @property
    def state(self) -> str:
        return self._state

    def sizeHint(self) -> QSize:
        name = QFontMetrics(theme.font(13, True)).horizontalAdvance(self.text())
        state = QFontMetrics(theme.font(11)).horizontalAdvance(self._state)
        return QSize(max(name, state, theme.px(66)) + theme.px(24), theme.px(42))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = self.rect().adjusted(1, 1, -1, -1)
        painter.setPen(theme.colour("brass") if self.hasFocus() else Qt.PenStyle.NoPen)
        if self.isChecked() or self.underMouse() or self.hasFocus():
            painter.setBrush(theme.colour("raised" if self.isChecked() else "panel"))
            painter.drawRoundedRect(area, 5, 5)
        inner = area.adjusted(theme.px(12), theme.px(3), -theme.px(8), -theme.px(3))
        painter.setFont(theme.font(13, self.isChecked()))
        painter.setPen(theme.colour("text" if self.isChecked() else "quiet"))
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft, self.text())
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour(self._colour))
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, self._state)


class PlaceStrip(QWidget):
    """All places, and at the right the session's name and what it runs at."""

    chosen = Signal(int)

    def __init__(self, places: list[tuple[str, str]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 4, 12, 4)
        row.setSpacing(4)
        self._group = QButtonGroup(self)
        self.buttons: list[PlaceButton] = []
        for number, (name, key) in enumerate(places):
            button = PlaceButton(name, key)
            self._group.addButton(button, number)
            self.buttons.append(button)
            row.addWidget(button)
        row.addStretch(1)
        words = QVBoxLayout()
        words.setSpacing(0)
        self._name, self._runs_at = Elided(), Elided()
        self._runs_at.setProperty("role", "quiet")
        for label in (self._name, self._runs_at):
            label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            words.addWidget(label)
        row.addLayout(words)
        self._group.idClicked.connect(self.chosen)

    def show_session(self, name: str, runs_at: str) -> None:
        self._name.setText(name)
        self._runs_at.setText(runs_at)

    def check(self, number: int) -> None:
        """Marks a place as the one that is shown; none, where the number is that of no place."""
        self._group.setExclusive(number < len(self.buttons))
        for place, button in enumerate(self.buttons):
            button.setChecked(place == number)
