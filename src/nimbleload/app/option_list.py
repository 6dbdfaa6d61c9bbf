"""What it would take: for the chosen tracks every possible decision, its saving and its price; and the chain itself."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ..core.options import Weighed
from ..core.plan import Decision
from ..core.survey import Instant, Survey
from ..core.verdict import percent
from .picture import elided
from .theme import theme

MINUS = "−"


class OptionButton(QAbstractButton):
    """One decision: what it is, what it gives up, and what it saves; its digit chooses it from the keyboard."""

    def __init__(self, digit: int, weighed: Weighed, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.weighed = weighed
        self.setText(weighed.option.title)
        self.setCheckable(True)
        self.setChecked(weighed.taken)
        self.setEnabled(weighed.option.reason is None)
        self._digit = digit
        self._below = weighed.option.reason or weighed.option.price
        self.setToolTip(self._below)
        self.setAccessibleName(f"{weighed.option.title}, saves {self.figure()}. {self._below}")

    def figure(self) -> str:
        """The saving of load at this moment, against leaving everything chosen live."""
        saving = self.weighed.saving
        if saving is None or abs(saving.load) < 5e-4:
            return "—"
        return f"{MINUS}{percent(saving.load)}" if saving.load > 0 else f"+{percent(-saving.load)}"

    def sizeHint(self) -> QSize:
        return QSize(theme.px(220), theme.px(40))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = self.rect().adjusted(1, 1, -2, -2)
        framed = self.isChecked() or self.hasFocus()
        painter.setPen(theme.colour("brass") if framed else Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("raised" if framed or self.underMouse() else "panel"))
        painter.drawRoundedRect(area, 4, 4)
        inner = area.adjusted(theme.px(8), theme.px(4), -theme.px(8), -theme.px(4))
        figure_width = theme.px(62)
        left = inner.adjusted(0, 0, -figure_width, 0)
        painter.setFont(theme.font(12, self.isChecked()))
        painter.setPen(theme.colour("text" if self.isEnabled() else "quiet"))
        title = f"{self._digit}  {self.text()}"
        top, bottom = Qt.AlignmentFlag.AlignTop, Qt.AlignmentFlag.AlignBottom
        painter.drawText(left, top | Qt.AlignmentFlag.AlignLeft, elided(painter, title, left.width()))
        if self.isEnabled():
            saving = self.weighed.saving
            painter.setPen(theme.colour("brick" if saving is not None and saving.load < -5e-4 else "teal"))
            painter.drawText(inner, top | Qt.AlignmentFlag.AlignRight, self.figure())
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("quiet"))
        below = inner.adjusted(theme.px(14), 0, 0, 0)
        painter.drawText(below, bottom | Qt.AlignmentFlag.AlignLeft, elided(painter, self._below, below.width()))


class OptionList(QFrame):
    """The panel for the chosen strips. `decided` tells what was chosen, as (what it is called, decisions)."""

    decided = Signal(str, list)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self._title, self._below = QLabel(), QLabel()
        self._title.setProperty("role", "title")
        self._below.setProperty("role", "quiet")
        self._rows = QVBoxLayout()
        self._rows.setSpacing(2)
        inside = QWidget()
        inside_column = QVBoxLayout(inside)
        inside_column.setContentsMargins(0, 0, 4, 0)
        inside_column.addLayout(self._rows)
        inside_column.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inside)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 6, 6)
        column.setSpacing(3)
        column.addWidget(self._title)
        column.addWidget(self._below)
        column.addWidget(area, 1)
        self.options: list[OptionButton] = []
        self.show_nothing()

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(220), theme.px(150))

    def show_nothing(self) -> None:
        self._clear()
        self._title.setText("What it would take")
        self._below.setText("Choose a track, or several, to see what each decision would save.")
        self._below.setWordWrap(True)

    def _clear(self) -> None:
        self.options = []
        while (item := self._rows.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()

    def show_options(self, of: Survey, at: Instant, strip_ids: tuple[str, ...], weighed: list[Weighed]) -> None:
        """Shows the options of the chosen strips, and for a single one its chain."""
        if not strip_ids:
            self.show_nothing()
            return
        focused = next((k for k, option in enumerate(self.options) if option.hasFocus()), None)
        self._clear()
        numbers = [i for i, strip in enumerate(of.session.strips) if strip.id in strip_ids]
        share = float(at.strip_costs[numbers].sum()) / of.deadline
        name = of.session.strips[numbers[0]].name if len(numbers) == 1 else f"{len(numbers)} tracks"
        self._title.setText(name)
        self._below.setText(f"{percent(share)} of one core here; load saved here, against live")
        for digit, each in enumerate(weighed, 1):
            button = OptionButton(digit, each)
            button.clicked.connect(lambda _=False, b=button: self._choose(b))
            self._rows.addWidget(button)
            self.options.append(button)
        if focused is not None and focused < len(self.options):
            self.options[focused].setFocus()
        if len(numbers) == 1:
            self._show_chain(of, at, numbers[0])

    def choose_digit(self, digit: int) -> None:
        """Chooses the option with this digit, if it is there and possible."""
        if 1 <= digit <= len(self.options) and self.options[digit - 1].isEnabled():
            self._choose(self.options[digit - 1])

    def _choose(self, button: OptionButton) -> None:
        self.decided.emit(f"{button.text().lower()}: {self._title.text()}", list(button.weighed.decisions))

    def _show_chain(self, of: Survey, at: Instant, number: int) -> None:
        """The plugins in order with what each costs here, and a word to switch it off or on."""
        strip = of.planned.session.strips[number]
        heading = QLabel("The chain, each plugin in µs and of one core")
        heading.setProperty("role", "quiet")
        heading.setWordWrap(True)
        self._rows.addWidget(heading)
        for place, use in strip.places():
            row = QWidget()
            line = QHBoxLayout(row)
            line.setContentsMargins(8, 0, 0, 0)
            line.setSpacing(5)
            cost = at.use_costs[use.id]
            colour = theme.family(use.family).name()
            frozen = ", frozen" if strip.is_frozen(place) else ""
            label = QLabel(f'<span style="color:{colour}">■</span> {use.label}{frozen}')
            label.setToolTip(setting_words(use.setting.values) or "as it starts")
            figure = QLabel(f"{cost * 1e6:.0f} µs  {percent(cost / of.deadline)}")
            figure.setProperty("role", "quiet")
            line.addWidget(label, 1)
            line.addWidget(figure)
            original = of.session.strips[number].uses()[place + (1 if strip.instrument else 0)]
            if original.enabled:
                line.addWidget(self._switch(strip.id, use.id, use.label, use.enabled))
            self._rows.addWidget(row)

    def _switch(self, strip_id: str, use_id: str, label: str, enabled: bool) -> QPushButton:
        button = QPushButton("on" if enabled else "off")
        button.setProperty("role", "word")
        button.setCheckable(True)
        button.setChecked(not enabled)
        button.setToolTip(f"Switch {label} {'off' if enabled else 'on again'}")
        button.setAccessibleName(button.toolTip())
        kind = "off" if enabled else "live"
        what = f"switch {'off' if enabled else 'on'} {label}"
        decision = Decision(kind, strip_id, use_id)  # type: ignore[arg-type]
        button.clicked.connect(lambda: self.decided.emit(what, [decision]))
        return button


def setting_words(values: tuple[tuple[str, float], ...]) -> str:
    """A setting in a line: "bands 8, gain 3"."""
    return ", ".join(f"{name} {value:g}" for name, value in values)
