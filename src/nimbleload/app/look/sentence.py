"""The sentence that opens a page: what is wrong, where, how bad, and the one next step as a button."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QSize, Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy, QWidget

from ..background.desk import Desk
from .prose import Prose
from .theme import theme

# What stands there until there is something to be said.
NOTHING_OPEN = "No session is open."
WHAT_TO_OPEN = "Session › Open… opens one, or drop a file onto the window; Session › Open the example shows one."
COMPUTING, NOT_COMPUTED = "Computing the load…", "This session cannot be computed."


class _Lines(Prose):
    """Words that take the room of so many lines at least, so that shorter ones move nothing below them."""

    def __init__(self, least: int) -> None:
        super().__init__()
        self._least = least

    def heightForWidth(self, width: int) -> int:
        return max(super().heightForWidth(width), self._least * self.fontMetrics().lineSpacing())


class _Words(QWidget):
    """Words below each other, as wide as there is room. Only where they need another height is the page laid out anew:
    a layout of its own would have that done for every word."""

    GAP = 2

    def __init__(self, *words: Prose) -> None:
        super().__init__()
        self._words, self._high = words, -1
        for each in words:
            each.setParent(self)
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def heightForWidth(self, width: int) -> int:
        return sum(each.heightForWidth(width) + self.GAP for each in self._words) - self.GAP

    def sizeHint(self) -> QSize:
        wide = max(self.width(), self.minimumSizeHint().width())
        return QSize(wide, self.heightForWidth(wide))

    def minimumSizeHint(self) -> QSize:
        return QSize(theme.px(240), self.fontMetrics().lineSpacing())

    def event(self, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.LayoutRequest, QEvent.Type.Resize):
            self._place()
        return super().event(event)

    def _place(self) -> None:
        above = 0
        for each in self._words:
            high = each.heightForWidth(self.width())
            each.setGeometry(0, above, self.width(), high)
            above += high + self.GAP
        if above != self._high:
            self._high = above
            self.updateGeometry()


class Sentence(QFrame):
    """A headline, advice in as many `lines` as it usually takes, and a button for what to do next."""

    pressed = Signal()

    def __init__(self, parent: QWidget | None = None, lines: int = 1) -> None:
        super().__init__(parent)
        self.setObjectName("sentence")
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 7, 12, 7)
        self.headline, self.advice = Prose(), _Lines(lines)
        self.headline.setProperty("role", "headline")
        self.advice.setAlignment(Qt.AlignmentFlag.AlignTop)
        row.addWidget(_Words(self.headline, self.advice), 1)
        self.button = QPushButton()
        self.button.setProperty("role", "main")
        self.button.clicked.connect(self.pressed)
        row.addWidget(self.button)
        self.say(NOTHING_OPEN, WHAT_TO_OPEN, "quiet")

    def follow_opening(self, desk: Desk) -> None:
        """Says from now on that the load of a session that is opened is being computed, or why it cannot be."""
        desk.opened.connect(lambda: self.say(COMPUTING, "The session is open.", "quiet"))
        desk.failed.connect(lambda why: self.say(NOT_COMPUTED, why, "overload") if desk.survey is None else None)

    def say(self, headline: str, advice: str, tone: str, button: str = "") -> None:
        """Shows a sentence. `tone` is "overload", "tight", "fits" or "quiet"; an empty `button` hides it."""
        self.headline.setText(headline)
        self.advice.setText(advice)
        self.setAccessibleName(f"{headline} {advice}")
        self.button.setText(button)
        self.button.setVisible(bool(button))
        c = theme.colours
        bar = {"overload": c.brick, "tight": c.brass, "fits": c.teal}.get(tone, c.quiet)
        ground = c.brick_ground if tone == "overload" else c.panel
        style = (
            f"#sentence {{ background: {ground}; border-left: {theme.px(5)}px solid {bar}; border-radius: 3px; }}"
            f"#sentence QLabel {{ background: transparent; }}"
        )
        if style != self.styleSheet():  # setting it costs as much as painting a page
            self.setStyleSheet(style)
