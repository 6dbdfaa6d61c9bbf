"""What the program wrote down: the end of its log, and where it lies."""

from __future__ import annotations

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices, QFontDatabase, QTextCursor
from PySide6.QtWidgets import QDialogButtonBox, QPlainTextEdit, QVBoxLayout, QWidget

from ..background.jobs import Jobs
from ..look.panels import Dialog
from ..look.theme import theme
from ..look.words import Words
from . import log_file

NOTHING = "Nothing has been written down: nothing went wrong."


class LogDialog(Dialog):
    """The last entries of the log: what of it has been read."""

    def __init__(self, read: str, parent: QWidget | None = None) -> None:
        super().__init__("What the program wrote down", parent)
        self.resize(theme.px(760), theme.px(460))
        path = log_file.path()
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.text.setAccessibleName("The log")
        self.text.setPlainText(read or NOTHING)
        self.text.moveCursor(QTextCursor.MoveOperation.End)
        where = Words(f"It lies in {path}")
        where.setProperty("role", "quiet")
        where.setWordWrap(True)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        show = buttons.addButton("Show in folder", QDialogButtonBox.ButtonRole.ActionRole)
        show.clicked.connect(lambda: QDesktopServices.openUrl(QUrl.fromLocalFile(str(path.parent))))
        buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addWidget(self.text, 1)
        column.addWidget(where)
        column.addWidget(buttons)


def show_log(jobs: Jobs, parent: QWidget) -> None:
    """Has the log read and shown."""
    jobs.run(log_file.end, lambda read: LogDialog(read, parent).open(), f"the log in {log_file.path()} cannot be read")
