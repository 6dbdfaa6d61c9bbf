"""What the program wrote down: the end of its log, and where it lies."""

from __future__ import annotations

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices, QFontDatabase, QTextCursor
from PySide6.QtWidgets import QDialogButtonBox, QLabel, QPlainTextEdit, QVBoxLayout, QWidget

from ..look.panels import Dialog
from ..look.theme import theme
from . import log_file

SHOWN = 64 << 10


class LogDialog(Dialog):
    """The last entries of the log."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("What the program wrote down", parent)
        self.resize(theme.px(760), theme.px(460))
        path = log_file.path()
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.text.setAccessibleName("The log")
        try:
            with path.open("rb") as file:
                file.seek(max(path.stat().st_size - SHOWN, 0))
                self.text.setPlainText(file.read().decode(errors="replace"))
        except OSError:
            self.text.setPlainText("Nothing has been written down: nothing went wrong.")
        self.text.moveCursor(QTextCursor.MoveOperation.End)
        where = QLabel(f"It lies in {path}")
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
