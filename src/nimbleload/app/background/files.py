"""Opening and saving off the window's thread; the window hears of the outcome by a signal."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from ...core.cards.card import CostCard
from ...core.session.plugins import CardKey
from ...core.session.session import Session, SessionError
from ...store import session_file
from ...store.archive import ImportRefusedError
from ...store.library import Library, LibraryError
from ...store.opening import Opened, known_cards, open_session
from ...store.recovery import Left, Recovery, discard
from ...store.session_file import Saved, SessionFileError
from .to_window_thread import ToWindowThread

log = logging.getLogger(__name__)


class Filing(QObject):
    """One file at a time, in order. `opened` brings (path, opened session, its cards); `known` cards by their keys."""

    opened = Signal(object, object, object)
    saved = Signal(object, object)
    known = Signal(dict)
    failed = Signal(str)

    def __init__(self, library: Library | None, recovery: Recovery, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._library = library
        self._recovery = recovery
        self._to_window = ToWindowThread(self)
        self._work = ThreadPoolExecutor(1, "files")
        self._looked_for: set[CardKey] = set()
        self._looked_into: Session | None = None

    def open(self, path: Path) -> None:
        self._work.submit(self._open, path)

    def _open(self, path: Path) -> None:
        try:
            found = open_session(path)
            self._to_window.post(self.opened.emit, path, found, self.cards_for(found))
        except (ImportRefusedError, SessionFileError, SessionError, LibraryError) as error:
            self._to_window.post(self.failed.emit, f"{error} What was open stays open.")
        except Exception as error:
            log.exception("opening %s failed", path)
            self._to_window.post(self.failed.emit, f"{path} could not be opened: {error}. What was open stays open.")

    def cards_for(self, found: Opened) -> dict:
        """Every card known for a session: this computer's own first, then those that came with it."""
        own = {card.key: card for card in found.saved.cards}
        return own if self._library is None else known_cards(found.saved.session, self._library, own)

    def look_up(self, session: Session, cards: Mapping[CardKey, CostCard]) -> None:
        """Looks for the cards of plugins that are new in a session, each only once; `known` brings those there are."""
        if self._library is not None and session is not self._looked_into:
            self._looked_into = session
            new = session.cards_needed().keys() - cards.keys() - self._looked_for
            if new:
                self._looked_for |= new
                self._work.submit(self._look_up, session, new, self._library)

    def _look_up(self, session: Session, new: set[CardKey], library: Library) -> None:
        try:
            found = {key: card for key, card in known_cards(session, library).items() if key in new}
            if found:
                self._to_window.post(self.known.emit, found)
        except Exception:
            log.exception("the library could not be asked for new plugins")

    def save(self, path: Path, saved: Saved, document: object) -> Future[None]:
        """Writes a session file; `saved` brings the path and `document` back when it is on the disk."""
        return self._work.submit(self._save, path, saved, document)

    def _save(self, path: Path, saved: Saved, document: object) -> None:
        try:
            session_file.write(path, saved)
            self._recovery.forget()
            self._to_window.post(self.saved.emit, path, document)
        except SessionFileError as error:
            self._to_window.post(self.failed.emit, str(error))
        except Exception as error:
            log.exception("saving %s failed", path)
            self._to_window.post(self.failed.emit, f"{path} was not saved: {error}. What is open is as it was.")

    def keep(self, saved: Saved, original: Path | None) -> Future[None]:
        """Writes the recovery copy."""
        return self._work.submit(self._keep, saved, original)

    def _keep(self, saved: Saved, original: Path | None) -> None:
        try:
            self._recovery.keep(saved, original)
        except OSError as error:
            log.warning("the recovery copy was not written: %s", error)

    def replace(self, left: Left, saved: Saved, original: Path | None) -> Future[None]:
        """Takes over a copy that a crash left behind: ours is on the disk before the old one goes."""
        return self._work.submit(self._replace, left, saved, original)

    def _replace(self, left: Left, saved: Saved, original: Path | None) -> None:
        try:
            self._recovery.keep(saved, original)
        except OSError as error:
            log.warning("the recovery copy was not written: %s", error)
            return
        discard(left)

    def forget(self) -> None:
        """Removes the recovery copy, after everything that is still being written."""
        self._work.submit(self._recovery.forget)

    def close(self) -> None:
        """Waits for what is being written; nothing is told after."""
        self._to_window.close()
        self._work.shutdown(wait=True)
