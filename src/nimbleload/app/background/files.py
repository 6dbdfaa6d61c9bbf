"""Opening and saving off the window's thread; the window hears of the outcome by a signal."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from PySide6.QtCore import QObject, Signal, SignalInstance

from ...core.cards.card import CostCard
from ...core.session.plugins import CardKey
from ...core.session.session import Session, SessionError
from ...core.units import said_by
from ...store import session_file
from ...store.archive import ImportRefusedError
from ...store.library import Library, LibraryError
from ...store.opening import Opened, known_cards, open_session
from ...store.recovery import Left, Recovery, discard
from ...store.session_file import Saved, SessionFileError
from ...store.stamps import Stamp, Stamps, stamp_of
from ...store.written_anew import is_written_anew
from .to_window_thread import ToWindowThread

log = logging.getLogger(__name__)


class Filing(QObject):
    """One file at a time, in order. `opened` brings (path, opened session, its cards), and `again` those of a session
    that is open already; `known` cards by their keys. `overtaken`: another program has written a file since it was
    read or written here, and whether it was to be saved: then it was not. `exported`: the exchange file that a session
    came from holds another project by now."""

    opened = Signal(object, object, object)
    again = Signal(object, object, object)
    overtaken = Signal(object, bool)
    exported = Signal(object)
    saved = Signal(object, object)
    known = Signal(dict)
    failed = Signal(str)

    def __init__(self, library: Library | None, recovery: Recovery, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._library = library
        self._recovery = recovery
        self._to_window = ToWindowThread(self)
        self._work = ThreadPoolExecutor(1, "files")
        self._stamps = Stamps()
        self._looked_at: dict[tuple[Path, str], Stamp] = {}
        self._looked_for: set[CardKey] = set()
        self._looked_into: Session | None = None

    def open(self, path: Path) -> None:
        self._work.submit(self._open, path, self.opened)

    def open_again(self, path: Path) -> None:
        """Reads the file of the session that is open once more."""
        self._work.submit(self._open, path, self.again)

    def _open(self, path: Path, tells: SignalInstance) -> None:
        try:
            stamp = stamp_of(path)
            found = open_session(path)
            self._stamps.note(path, stamp)
            self._to_window.post(tells.emit, path, found, self.cards_for(found))
        except (ImportRefusedError, SessionFileError, SessionError, LibraryError) as error:
            self._to_window.post(self.failed.emit, f"{error} What was open stays open.")
        except Exception as error:
            log.exception("opening %s failed", path)
            said = f"{path} could not be opened: {said_by(error)}. What was open stays open."
            self._to_window.post(self.failed.emit, said)

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

    def look_again(self, path: Path | None, session: Session) -> None:
        """Whether another program has written the file of a session since it was read or written here, or the exchange
        file that it came from; each told once."""
        self._work.submit(self._look_again, path, session)

    def _look_again(self, path: Path | None, session: Session) -> None:
        if path is not None and self._stamps.is_news(path):
            self._to_window.post(self.overtaken.emit, path, False)
            return
        source = Path(session.source)
        asked, now = (source, session.source_stamp), stamp_of(source)
        if now is not None and self._looked_at.get(asked) != now:
            self._looked_at[asked] = now
            if is_written_anew(session):
                self._to_window.post(self.exported.emit, source)

    def save(self, path: Path, saved: Saved, document: object, over: bool = False) -> Future[None]:
        """Writes a session file; `saved` brings the path and `document` back when it is on the disk. What another
        program has written there since is written over only if that is wanted."""
        return self._work.submit(self._save, path, saved, document, over)

    def _save(self, path: Path, saved: Saved, document: object, over: bool) -> None:
        try:
            if not over and self._stamps.is_changed(path):
                self._to_window.post(self.overtaken.emit, path, True)
                return
            session_file.write(path, saved)
            self._stamps.note(path, stamp_of(path))
            self._recovery.forget()
            self._to_window.post(self.saved.emit, path, document)
        except SessionFileError as error:
            self._to_window.post(self.failed.emit, str(error))
        except Exception as error:
            log.exception("saving %s failed", path)
            said = f"{path} was not saved: {said_by(error)}. What is open is as it was."
            self._to_window.post(self.failed.emit, said)

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
            # What was written there since the copy was made is not in it.
            made = stamp_of(left.copy)
            now = stamp_of(original) if original is not None else None
            if original is not None and made is not None and now is not None:
                self._stamps.note(original, now if now.written <= made.written else Stamp(0, 0))
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
