"""A line at the foot of the window that says what has just been written, and shows it in its folder."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, QUrl, Signal
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy, QWidget

from ...store import atomic
from ..background.jobs import Jobs
from .words import Words

# How long a notice stands there by itself.
STANDS_MS = 20_000


class Written(QObject):
    """Where every part of the window tells which file it has written: `told` brings a sentence, and the file or None.
    `failed` brings a sentence of what could not be written here.
    """

    told = Signal(str, object)
    failed = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._jobs: Jobs | None = None

    def write(self, path: Path, content: bytes) -> None:
        """Writes a file in a thread, as a whole or not at all, and tells of it."""
        if self._jobs is None:
            self._jobs = Jobs(self)
            self._jobs.failed.connect(self.failed)
        self._jobs.run(partial(atomic.write, path, content), lambda _: self.tell(path), f"{path} was not written")

    def tell(self, path: Path, remark: str = "") -> None:
        """A file was written; what else is to be said of it."""
        self.told.emit(f"Written to {path}; {remark}" if remark else f"Written to {path}", Path(path))

    def say(self, sentence: str) -> None:
        """Something was done that no file comes of."""
        self.told.emit(sentence, None)


written = Written()


class Notice(QFrame):
    """The line itself; hidden until something is told, and again after a while or when it is closed."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self.path: Path | None = None
        self.words = Words()
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.open, self.folder, self.close_it = (QPushButton(w) for w in ("Open it", "Show in folder", "Close"))
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 3, 8, 3)
        row.addWidget(self.words, 1)
        for button in (self.open, self.folder, self.close_it):
            button.setProperty("role", "narrow")
            row.addWidget(button)
        self.open.clicked.connect(lambda: self._show(self.path))
        self.folder.clicked.connect(lambda: self._show(self.path.parent if self.path is not None else None))
        self.close_it.clicked.connect(self.hide)
        self._gone = QTimer(self)
        self._gone.setSingleShot(True)
        self._gone.setInterval(STANDS_MS)
        self._gone.timeout.connect(self.hide)
        self.hide()
        written.told.connect(self.say)

    def say(self, sentence: str, path: Path | None) -> None:
        """Shows a sentence, and for a file what can be done with it."""
        self.path = path
        self.words.setText(sentence)
        self.words.setToolTip(sentence)
        self.setAccessibleName(sentence)
        for button in (self.open, self.folder):
            button.setVisible(path is not None)
        self.show()
        self._gone.start()

    @staticmethod
    def _show(path: Path | None) -> None:
        if path is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))
