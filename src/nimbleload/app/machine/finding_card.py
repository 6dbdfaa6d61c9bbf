"""A finding about the computer as a card: what is seen, why it matters, and commands to copy."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QFontDatabase, QGuiApplication, QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.told.finding import GRADE_WORDS, Finding
from ..look.theme import theme
from ..look.words import Words

COLOURS = {"matters": "brick", "note": "brass", "unseen": "quiet", "well": "teal"}


class FindingCard(QFrame):
    """One finding. What is in order takes one line."""

    def __init__(self, of: Finding, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.finding = of
        self.setObjectName("finding")
        c, colour = theme.colours, theme.colour(COLOURS[of.grade]).name()
        self.setStyleSheet(
            f"#finding {{ background: {c.ground}; border-left: {theme.px(4)}px solid {colour}; border-radius: 3px; }}"
            f"#finding QLabel {{ background: transparent; }}"
        )
        self.setAccessibleName(f"{GRADE_WORDS[of.grade]}: {of.name}. {of.seen} {of.why}")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 7, 10, 7)
        column.setSpacing(3)
        head = QHBoxLayout()
        name, grade = Words(of.name), Words(GRADE_WORDS[of.grade])
        name.setProperty("role", "title")
        grade.setStyleSheet(f"color: {colour}; font-size: {theme.px(11)}px;")
        head.addWidget(name)
        head.addStretch(1)
        head.addWidget(grade)
        column.addLayout(head)
        self._add(column, of.seen, "")
        if of.grade != "well":
            self._add(column, of.why, "quiet")
            self.copies = [
                self._command(column, *each) for each in (("Now", of.now), ("For good", of.lasting)) if each[1]
            ]
        else:
            self.copies = []

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._keep_height()

    def event(self, event: QEvent) -> bool:
        done = super().event(event)
        if event.type() in (QEvent.Type.LayoutRequest, QEvent.Type.Polish, QEvent.Type.Show):
            self._keep_height()
        return done

    def _keep_height(self) -> None:
        """Keeps the height that the wrapped texts need at this width: a scroll area asks nobody for it."""
        self.setMinimumHeight(self.heightForWidth(self.width()))

    def _add(self, column: QVBoxLayout, text: str, role: str) -> None:
        if text:
            label = Words(text)
            label.setWordWrap(True)
            label.setProperty("role", role)
            label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            column.addWidget(label)

    def _command(self, column: QVBoxLayout, words: str, command: str) -> QPushButton:
        """A line with a command, and a button that copies it; it is never run."""
        row = QHBoxLayout()
        label, text, button = Words(words), Words(command), QPushButton("Copy")
        label.setProperty("role", "quiet")
        label.setFixedWidth(theme.px(62))
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        font.setPixelSize(theme.px(11))
        text.setFont(font)
        text.setWordWrap(True)
        text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        button.setProperty("role", "word")
        button.setAccessibleName(f"Copy the command: {command}")
        button.clicked.connect(lambda: self._copy(button, command))
        row.addWidget(label, 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(text, 1)
        row.addWidget(button, 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(row)
        return button

    @staticmethod
    def _copy(button: QPushButton, command: str) -> None:
        QGuiApplication.clipboard().setText(command)
        button.setText("Copied")
