"""The plugins that are installed on this computer, to search; files that could not be read, with their reason."""

from __future__ import annotations

import logging
import threading

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...core.session.plugins import FAMILIES
from ...core.units import count, told_by
from ...probe import catalogue
from ...probe.catalogue import Scanned
from ...probe.standards import STANDARDS
from ..background.to_window_thread import ToWindowThread
from ..look.panels import Dialog, dress_table
from ..look.theme import theme
from ..look.words import Words

log = logging.getLogger(__name__)
COLUMNS = ("Name", "Maker", "Standard", "Family", "Known as")
ANY_FAMILY, ANY_STANDARD = "every family", "every standard"


class InstalledDialog(Dialog):
    """Looks into the search folders in a thread of its own; `scanned` brings what they hold, `broken` why not."""

    scanned = Signal(list)
    broken = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Plugins installed here", parent)
        self.resize(theme.px(860), theme.px(520))
        self._found: list[Scanned] = []
        self._to_window = ToWindowThread()  # nobody's child: the thread may outlive this
        self._thread: threading.Thread | None = None
        self.words, self.family, self.standard = QLineEdit(), QComboBox(), QComboBox()
        self.words.setPlaceholderText("Words of the name, the maker or the identifier")
        self.words.setAccessibleName("Words to look for")
        self.family.addItems([ANY_FAMILY, *FAMILIES])
        self.family.setAccessibleName("Family")
        self.standard.addItems([ANY_STANDARD, *(name.upper() for name in STANDARDS)])
        self.standard.setAccessibleName("Plugin standard")
        self.table = QTableWidget(0, len(COLUMNS))
        dress_table(self.table, COLUMNS, "Plugins installed here", Qt.AlignmentFlag.AlignLeft)
        self.table.setTabKeyNavigation(False)
        header = self.table.horizontalHeader()
        header.setHighlightSections(False)
        for column, mode in ((0, QHeaderView.ResizeMode.Interactive), (4, QHeaderView.ResizeMode.Stretch)):
            header.setSectionResizeMode(column, mode)
        for column, width in enumerate((230, 180, 80, 150)):
            self.table.setColumnWidth(column, theme.px(width))
        self.count = Words()
        self.count.setProperty("role", "quiet")
        self.failures = QPlainTextEdit()
        self.failures.setReadOnly(True)
        self.failures.setMaximumHeight(theme.px(90))
        self.failures.setAccessibleName("Files that could not be read")
        self.retry = QPushButton("Look into these files again")
        self._lay_out()
        self.words.textChanged.connect(self._fill)
        self.family.currentIndexChanged.connect(self._fill)
        self.standard.currentIndexChanged.connect(self._fill)
        self.retry.clicked.connect(lambda: self.look(retry=True))
        self.finished.connect(self._to_window.close)
        self.scanned.connect(self._take)
        self.broken.connect(self.count.setText)
        self.look()

    def _lay_out(self) -> None:
        top = QHBoxLayout()
        top.addWidget(self.words, 1)
        top.addWidget(self.family)
        top.addWidget(self.standard)
        below = QHBoxLayout()
        below.addWidget(self.count, 1)
        below.addWidget(self.retry)
        column = QVBoxLayout(self)
        column.addLayout(top)
        column.addWidget(self.table, 1)
        column.addLayout(below)
        column.addWidget(self.failures)
        for part in (self.failures, self.retry):
            part.hide()

    def look(self, retry: bool = False) -> None:
        """Reads the catalogue; with `retry`, also the files that could not be read before."""
        if self._thread is not None and self._thread.is_alive():
            return
        self.count.setText("Looking into the search folders. New files are opened in processes of their own.")
        self.retry.setEnabled(False)
        self._thread = threading.Thread(target=self._look, args=(retry,), daemon=True)
        self._thread.start()

    def _look(self, retry: bool) -> None:
        try:
            self._to_window.last(self.scanned.emit, catalogue.catalogue(retry=retry))
        except Exception as error:
            log.exception("the catalogue could not be read")
            self._to_window.last(self.broken.emit, f"The search folders could not be read: {told_by(error)}.")

    def _take(self, found: list[Scanned]) -> None:
        self._found = found
        failed = [file for file in found if file.failure]
        self.failures.setPlainText("\n".join(f"{file.path}: {file.failure}" for file in failed))
        self.failures.setVisible(bool(failed))
        self.retry.setVisible(bool(failed))
        self.retry.setEnabled(True)
        self._fill()

    def _fill(self) -> None:
        family = self.family.currentText() if self.family.currentIndex() else None
        standard = self.standard.currentText().lower() if self.standard.currentIndex() else None
        every = sum(len(file.plugins) for file in self._found)
        fitting = catalogue.matching(self._found, self.words.text().split(), family, standard)
        self.table.setRowCount(len(fitting))
        for row, (plugin, kind) in enumerate(fitting):
            told = (plugin.name, plugin.vendor, plugin.standard.upper(), kind.words(), plugin.identifier)
            for column, text in enumerate(told):
                item = QTableWidgetItem(text)
                item.setToolTip(f"{text}\n{plugin.path}")
                self.table.setItem(row, column, item)
        guessed = sum(kind.guessed for _, kind in fitting)
        words = f"{len(fitting)} of {count(every, 'plugin')}"
        if guessed:
            words += f"; the family of {guessed} is guessed from the name"
        failed = sum(1 for file in self._found if file.failure)
        self.count.setText(f"{words}. {count(failed, 'file')} could not be read:" if failed else f"{words}.")
        if not every and not failed:
            self.count.setText("No plugins were found in the search folders of CLAP, LADSPA, LV2 and VST3.")
