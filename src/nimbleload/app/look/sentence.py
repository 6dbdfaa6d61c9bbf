"""The sentence that opens a page: what is wrong, where, how bad, and the one next step as a button."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

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


class Sentence(QFrame):
    """A headline, advice in as many `lines` as it usually takes, and a button for what to do next."""

    pressed = Signal()

    def __init__(self, parent: QWidget | None = None, lines: int = 1) -> None:
        super().__init__(parent)
        self.setObjectName("sentence")
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 7, 12, 7)
        words = QVBoxLayout()
        words.setSpacing(2)
        self.headline, self.advice = Prose(), _Lines(lines)
        self.headline.setProperty("role", "headline")
        self.advice.setAlignment(Qt.AlignmentFlag.AlignTop)
        words.addWidget(self.headline)
        words.addWidget(self.advice)
        row.addLayout(words, 1)
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
