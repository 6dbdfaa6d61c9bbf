"""What it would take: for the chosen tracks every possible decision, its saving and its price; and the chain itself."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QFrame,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.decisions.decision import Decision
from ...core.optimise.weigh import Weighed
from ...core.session.plugins import PluginUse
from ...core.session.strips import Strip
from ...core.survey import Instant, Survey
from ...core.told.as_known import takes_words, use_words
from ...core.told.plans import option_price, option_words, savings_words
from ...core.units import percent
from ..look.elided import Elided
from ..look.emptied import emptied
from ..look.on_key import on_key
from ..look.picture import elided, scrolled
from ..look.theme import theme
from ..look.words import Words

MINUS = "−"


class OptionButton(QAbstractButton):
    """One decision: what it is, what it gives up, and what it saves; its digit chooses it from the keyboard."""

    def __init__(self, digit: int, weighed: Weighed, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setCheckable(True)
        self._digit = digit
        self.show_weighed(weighed)

    def show_weighed(self, weighed: Weighed) -> None:
        self.weighed = weighed
        self.setText(weighed.option.title)
        self.setChecked(weighed.taken)
        self.setEnabled(weighed.option.reason is None)
        self._below = weighed.option.reason or option_words(weighed)
        self.setToolTip("\n".join([self._below, *option_price(weighed), *savings_words(weighed)]))
        self.setAccessibleName(f"{weighed.option.title}, saves {self.figure()}. {self._below}")
        self.update()

    def figure(self) -> str:
        """The saving of load at this moment, against leaving everything chosen live."""
        saving = self.weighed.saving
        if saving is None or abs(saving.load) < 5e-4:
            return "—"
        return f"{MINUS}{percent(saving.load)}" if saving.load > 0 else f"+{percent(-saving.load)}"

    def sizeHint(self) -> QSize:
        return QSize(theme.px(160), theme.px(40))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(120), theme.px(40))

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


class ChainRow(QWidget):
    """One plugin of a chain: what it costs here, and a word to switch it off or on.

    `fader_set` brings the strip and how many of its last inserts come after the fader; `card_wanted` asks for its cost
    card (the use's id).
    """

    switched = Signal(str, list)
    fader_set = Signal(str, int)
    card_wanted = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        line = QHBoxLayout(self)
        line.setContentsMargins(8, 0, 0, 0)
        line.setSpacing(5)
        self._name, self._figure, self._switch = Words(), Words(), QPushButton()
        self._figure.setProperty("role", "quiet")
        self._switch.setProperty("role", "word")
        self._switch.setCheckable(True)
        self._switch.clicked.connect(self._press)
        self._name.setTextFormat(Qt.TextFormat.RichText)
        line.addWidget(self._name, 1)
        line.addWidget(self._figure)
        line.addWidget(self._switch)
        self._decision: Decision | None = None
        self._after: tuple[str, int, bool] | None = None
        self._menu = QMenu(self)

    def show_use(self, strip: Strip, place: int, use: PluginUse, cost: str, can_switch: bool) -> None:
        """Shows a use of a planned strip; it can be switched unless the session itself has it off."""
        frozen = ", frozen" if strip.is_frozen(place) else ""
        is_after = place > strip.last_before_fader
        after = ", after the fader" if is_after else ""
        self._name.setText(f"{theme.family_mark(use.family)} {escape(use.label)}{after}{frozen}")
        self._name.setToolTip(use.setting.words())
        self._after = (strip.id, len(strip.inserts) - place, is_after) if place >= 0 else None
        self._figure.setText(cost)
        self._switch.setText("on" if use.enabled else "off")
        self._switch.setChecked(not use.enabled)
        self._switch.setEnabled(can_switch)
        self._switch.setToolTip(f"Switch {use.label} {'off' if use.enabled else 'on again'}")
        self._switch.setAccessibleName(self._switch.toolTip())
        self._decision = Decision("off" if use.enabled else "live", strip.id, use.id)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self._decision is None:
            return
        menu, use = emptied(self._menu), self._decision.use
        if self._after is not None:
            strip, count, is_after = self._after
            if is_after:
                menu.addAction("The fader comes after it", lambda: self.fader_set.emit(strip, count - 1))
            else:
                menu.addAction("The fader comes before it", lambda: self.fader_set.emit(strip, count))
        menu.addAction(self._switch.toolTip(), self._press).setEnabled(self._switch.isEnabled())
        menu.addAction("Its cost card", lambda: self.card_wanted.emit(use))
        menu.popup(event.globalPos())

    def _press(self) -> None:
        if self._decision is not None:
            self.switched.emit(self._switch.toolTip().lower(), [self._decision])


class OptionList(QFrame):
    """The panel for the chosen strips. `decided` tells what was chosen, as (what it is called, decisions).

    `left` asks for the plan in its place, with no strip chosen. `fader_set` brings a strip and how many of its last
    inserts come after its fader; `card_wanted` asks for the cost card of a plugin (a use's id).
    """

    decided = Signal(str, list)
    fader_set = Signal(str, int)
    card_wanted = Signal(str)
    left = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self._title, self._below = Elided(), Words()
        self.to_plan = QPushButton("the plan")
        self.to_plan.setProperty("role", "word")
        self.to_plan.setToolTip("Chooses no track, and shows the plan (Escape)")
        self.to_plan.clicked.connect(self.left)
        on_key(self, Qt.Key.Key_Escape, self.left.emit)
        self._title.setProperty("role", "title")
        self._below.setProperty("role", "quiet")
        self._below.setWordWrap(True)
        self._heading = Words("The chain, each plugin in µs and of one core")
        self._heading.setProperty("role", "quiet")
        self._heading.setWordWrap(True)
        self._option_rows, self._chain_rows = QVBoxLayout(), QVBoxLayout()
        inside = QWidget()
        rows = QVBoxLayout(inside)
        rows.setContentsMargins(0, 0, 4, 0)
        rows.setSpacing(2)
        rows.addLayout(self._option_rows)
        rows.addWidget(self._heading)
        rows.addLayout(self._chain_rows)
        rows.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 6, 6)
        column.setSpacing(3)
        head = QHBoxLayout()
        head.addWidget(self._title, 1)
        head.addWidget(self.to_plan)
        column.addLayout(head)
        column.addWidget(self._below)
        column.addWidget(scrolled(inside), 1)
        self.options: list[OptionButton] = []
        self._chain: list[ChainRow] = []
        self.show_nothing()

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(220), theme.px(150))

    def show_nothing(self) -> None:
        self._title.setText("What it would take")
        self._below.setText("Choose a track, or several, to see what each decision would save.")
        self._show_rows([], 0)

    def _show_rows(self, weighed: list[Weighed], chain: int) -> None:
        """As many option and chain rows as are needed; those that are there are used again."""
        while len(self.options) > len(weighed):
            button = self.options.pop()
            button.hide()
            button.deleteLater()
        for digit in range(len(self.options), len(weighed)):
            button = OptionButton(digit + 1, weighed[digit])
            button.clicked.connect(lambda _=False, b=button: self._choose(b))
            self._option_rows.addWidget(button)
            self.options.append(button)
        for button, each in zip(self.options, weighed, strict=True):
            button.show_weighed(each)
        while len(self._chain) < chain:
            row = ChainRow()
            row.switched.connect(self.decided)
            row.fader_set.connect(self.fader_set)
            row.card_wanted.connect(self.card_wanted)
            self._chain_rows.addWidget(row)
            self._chain.append(row)
        for number, row in enumerate(self._chain):
            row.setVisible(number < chain)
        self._heading.setVisible(chain > 0)

    def show_options(self, of: Survey, at: Instant, strip_ids: tuple[str, ...], weighed: list[Weighed]) -> None:
        """Shows the options of the chosen strips, and for a single one its chain."""
        numbers = [i for i, strip in enumerate(of.planned.session.strips) if strip.id in strip_ids]
        if not numbers:
            # Nothing is chosen, or what is chosen came with an edit whose load is still computed.
            self.show_nothing()
            return
        share = float(at.strip_costs[numbers].sum()) / of.deadline
        chosen = [of.planned.session.strips[i] for i in numbers]
        planned = chosen[0]
        self._title.setText(planned.name if len(numbers) == 1 else f"{len(numbers)} tracks")
        self._below.setText(f"{takes_words(chosen, of.lacking, share)} here; load saved here, against live")
        places = planned.places() if len(numbers) == 1 else ()
        self._show_rows(weighed, len(places))
        originals = (of.session.strips if numbers[0] < len(of.session.strips) else of.planned.session.strips)[
            numbers[0]
        ].uses()
        for row, (place, use), original in zip(self._chain, places, originals, strict=False):
            row.show_use(planned, place, use, use_words(of, use, at.use_costs[use.id]), original.enabled)

    @property
    def title(self) -> str:
        """What the options are for: the name of the chosen track, or how many there are."""
        return self._title.text()

    def choose_digit(self, digit: int) -> None:
        """Chooses the option with this digit, if it is there and possible."""
        if 1 <= digit <= len(self.options) and self.options[digit - 1].isEnabled():
            self._choose(self.options[digit - 1])

    def _choose(self, button: OptionButton) -> None:
        # A click turns a checkable button over by itself; only the plan says which one is chosen.
        button.setChecked(button.weighed.taken)
        what, decisions = button.text().lower(), list(button.weighed.decisions)
        if button.weighed.taken and any(d.use is not None for d in decisions):
            what, decisions = f"no longer {what}", [Decision("live", d.strip, d.use) for d in decisions]
        self.decided.emit(f"{what}: {self._title.text()}", decisions)
