"""Adding what lies in files: read off the window's thread, shown before anything is added, and then one step."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import (
    QDialogButtonBox,
    QFileDialog,
    QListWidget,
    QProgressBar,
    QVBoxLayout,
    QWidget,
)

from ...core.session.joined import Joined, joined
from ...core.session.session import Session, SessionError
from ...core.units import count, said_by
from ...probe import catalogue
from ...probe.choosing import Lookup, choices
from ...store.found import Found, NothingFoundError, StoppedError
from ...store.opening import Opened, made_here
from ...store.taking_in import ADDABLE, take_in_all
from ..background.desk import Desk
from ..background.files import Filing
from ..background.to_window_thread import ToWindowThread
from ..look.panels import Dialog
from ..look.theme import theme
from ..look.words import Words

log = logging.getLogger(__name__)


def dropped(event: QDropEvent) -> list[Path]:
    """What is being dropped of what can be opened or added: sessions, folders, audio, MIDI or tables."""
    paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
    return [path for path in paths if path.is_dir() or path.suffix.lower() in ADDABLE]


class AddingDialog(Dialog):
    """What is being read, then what was understood and what will not come along; adding it is asked for here."""

    def __init__(self, path: Path, parent: QWidget) -> None:
        super().__init__("Add to the session", parent)
        self.resize(theme.px(560), theme.px(360))
        self.words, self.bar, self.lines = Words(f"Reading {path.name}…"), QProgressBar(), QListWidget()
        self.words.setProperty("role", "headline")
        self.words.setWordWrap(True)
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.lines.setAccessibleName("What was understood, and what to mind")
        self.lines.setWordWrap(True)
        kinds = QDialogButtonBox.StandardButton
        self.buttons = QDialogButtonBox(kinds.Ok | kinds.Cancel)
        self.add = self.buttons.button(kinds.Ok)
        self.add.setText("Add")
        self.add.setEnabled(False)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        for part in (self.words, self.bar, self.lines, self.buttons):
            column.addWidget(part, 1 if part is self.lines else 0)

    def show_share(self, share: float, doing: str) -> None:
        self.bar.setValue(round(share * 1000))
        self.words.setText(f"Reading {doing}…")

    def show_found(self, found: Found, notes: tuple[str, ...]) -> None:
        """What would be added; each line of it in words."""
        tracks = sum(1 for strip in found.session.strips if strip.kind == "track")
        self.words.setText(f"{count(tracks, 'track')} can be added from {Path(found.report.file).name}.")
        self.bar.hide()
        self.lines.addItems(found.report.understood)
        for line in (*found.report.left_out, *notes):
            self.lines.addItem(f"Mind: {line}")
        self.add.setEnabled(True)
        self.add.setDefault(True)
        self.add.setFocus()

    def show_failure(self, sentence: str) -> None:
        self.words.setText(sentence)
        self.bar.hide()


class Adding(QObject):
    """Asks for files and reads them. `added`: something is on the desk now that was not; `failed` brings a sentence."""

    added = Signal()
    failed = Signal(str)

    def __init__(self, desk: Desk, filing: Filing, window: QWidget) -> None:
        super().__init__(window)
        self._desk, self._filing, self._window = desk, filing, window
        self._to_window = ToWindowThread(self)
        self._threads: list[threading.Thread] = []
        self._closed = False
        self.dialog: AddingDialog | None = None
        self._open: set[AddingDialog] = set()

    def ask(self, folder: bool) -> None:
        """Asks for a folder, or for a file, to add."""
        if folder:
            names = [QFileDialog.getExistingDirectory(self._window, "Add a folder of audio files")]
        else:
            kinds = " ".join(f"*{each}" for each in ADDABLE)
            wanted = f"What can be added ({kinds})"
            names, _ = QFileDialog.getOpenFileNames(self._window, "Add to the session", "", wanted)
        if any(names):
            self.read(*map(Path, names))

    def read(self, *paths: Path) -> None:
        """Reads files and folders in a thread of its own, and shows what could be added."""
        dialog = self.dialog = AddingDialog(paths[0], self._window)
        document = self._desk.document
        session = document.session if document is not None else None
        stopped = threading.Event()
        dialog.rejected.connect(stopped.set)
        self._open.add(dialog)
        dialog.finished.connect(lambda _: self._gone(dialog))
        dialog.open()
        thread = threading.Thread(target=self._read, args=(paths, session, dialog, stopped), daemon=True)
        self._threads = [each for each in self._threads if each.is_alive()] + [thread]
        thread.start()

    def _gone(self, dialog: AddingDialog) -> None:
        """A dialog is closed: it hears nothing any more."""
        self._open.discard(dialog)
        if self.dialog is dialog:
            self.dialog = None

    def _tell(self, dialog: AddingDialog, tell: Callable[..., object], *words: object) -> None:
        """Tells a dialog something, if it is still there."""
        if dialog in self._open:
            tell(*words)

    def _read(
        self, paths: Sequence[Path], session: Session | None, dialog: AddingDialog, stopped: threading.Event
    ) -> None:
        def progress(share: float, doing: str) -> bool:
            self._to_window.post(self._tell, dialog, dialog.show_share, share, doing)
            return stopped.is_set() or self._closed

        try:
            find = Lookup(choices(catalogue.catalogue()))
            found = take_in_all(paths, find, session.rate if session is not None else 48000, progress)
            whole = joined(session, found.session) if session is not None else Joined(found.session, ())
            if not stopped.is_set():
                self._to_window.post(self._tell, dialog, self._take, dialog, found, whole, session)
        except StoppedError:
            pass
        except (NothingFoundError, SessionError) as error:
            self._to_window.post(self._tell, dialog, dialog.show_failure, str(error))
        except Exception as error:
            log.exception("reading %s failed", paths)
            said = f"{paths[0]} could not be read: {said_by(error)}. Nothing was added."
            self._to_window.post(self._tell, dialog, dialog.show_failure, said)

    def _take(self, dialog: AddingDialog, found: Found, whole: Joined, read_for: Session | None) -> None:
        dialog.show_found(found, whole.notes)
        dialog.accepted.connect(lambda: self._add(found, whole, read_for), Qt.ConnectionType.SingleShotConnection)

    def _add(self, found: Found, whole: Joined, read_for: Session | None) -> None:
        """Adds what was read to what is on the desk now, as one step."""
        document = self._desk.document
        name = Path(found.report.file).name
        if document is None:
            saved = made_here(found.session)
            self._desk.open(saved, self._filing.cards_for(Opened(saved)), None, found.report, unsaved=True)
        else:
            try:
                # It may have been edited meanwhile.
                made = whole if document.session is read_for else joined(document.session, found.session)
            except SessionError as error:
                self.failed.emit(f"{name} cannot be added: {error}.")
                return
            self._desk.edit(f"add {name}", made.session)
        self.added.emit()

    def close(self) -> None:
        """Ends what is being read; nothing is told after."""
        self._closed = True
        self._to_window.close()
