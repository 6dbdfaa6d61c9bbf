"""The file of the open session, and the exchange file it came from, when another program writes them: noticed, read if
wanted, and never written over unasked."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QFileDialog

from ...core.cards.card import Cards
from ...core.told import newer
from ...core.told.as_known import is_unknown
from ...store.opening import EXCHANGE_SUFFIX, Opened
from ...store.renewing import Renewal, renewal
from ..document.document import Document
from ..look.panels import Message
from . import import_report


class Outside(QObject):
    """Looks at both whenever one comes back to the window, and at the session's file before it is saved."""

    def __init__(self, window: Any) -> None:
        super().__init__(window)
        self._window, self._desk, self._filing = window, window.desk, window.filing
        self._filing.overtaken.connect(self._ask)
        self._filing.again.connect(self._take)
        self._filing.exported.connect(self._offer)
        self._desk.opened.connect(self.look)
        window.installEventFilter(self)

    def eventFilter(self, of: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.WindowActivate:
            self.look()
        return False

    def look(self) -> None:
        """Looks at both; the window hears of it later."""
        if self._desk.document is not None:
            self._filing.look_again(self._desk.path, self._desk.document.session)

    def ask_newer(self) -> None:
        """Asks for a newer export of the session's mix, and takes it in."""
        if self._desk.document is not None:
            kinds = f"Exchange files (*{EXCHANGE_SUFFIX})"
            source = self._desk.document.session.source
            name, _ = QFileDialog.getOpenFileName(self._window, "Take in a newer export", source, kinds)
            if name:
                self.take_newer(Path(name))

    def take_newer(self, path: Path) -> None:
        """Takes a newer export in as a step of the history, and says what became of the plan."""
        of, saved = self._desk.document, self._desk.saved()
        if saved is not None:
            failure = "the newer export was not taken in"
            self._desk.jobs.run(lambda: renewal(saved, path), lambda made: self._renew(path, of, made), failure)

    def _renew(self, path: Path, of: Document, made: Renewal) -> None:
        if self._desk.document is not of:
            # It has changed meanwhile: what became of it is another thing.
            self.take_newer(path)
            return
        balance, shown = self._window.balance, self._desk.survey
        is_held = balance.held is None and shown is not None and not is_unknown(shown)
        if is_held:
            balance.hold_version(True)
        self._desk.take_newer(made)
        import_report.show(made.report, self._window, (*made.said, newer.HELD) if is_held else made.said)

    def _offer(self, path: Path) -> None:
        document = self._desk.document
        if document is None or Path(document.session.source) != path:
            return
        box = Message(self._window)
        box.setIcon(Message.Icon.Question)
        box.setText(newer.offered(path.name))
        box.setInformativeText(newer.OFFER)
        take = box.addButton("Take it in", Message.ButtonRole.AcceptRole)
        box.addButton("Later", Message.ButtonRole.RejectRole)
        box.buttonClicked.connect(lambda button: self.take_newer(path) if button is take else None)
        box.open()

    def _ask(self, path: Path, is_saving: bool) -> None:
        if path != self._desk.path:
            return
        box = Message(self._window)
        box.setIcon(Message.Icon.Question)
        box.setText(f"{path.name} was changed by another program since it was opened or saved here.")
        if is_saving:
            self._ask_saving(box, path)
        else:
            self._ask_reading(box, path)
        box.open()

    def _ask_saving(self, box: Message, path: Path) -> None:
        box.setInformativeText(f"It was not saved. Writing over it keeps what is there now as {path.name}.bak.")
        over = box.addButton("Write over it", Message.ButtonRole.DestructiveRole)
        other = box.addButton("Save as…", Message.ButtonRole.AcceptRole)
        stay = box.addButton("Not now", Message.ButtonRole.RejectRole)
        box.setDefaultButton(other)
        does = {over: lambda: self._window.save_to(path, True), other: self._window.ask_save, stay: self._window.stay}
        box.buttonClicked.connect(lambda button: does[button]())

    def _ask_reading(self, box: Message, path: Path) -> None:
        lost = " What has changed here since gives way to it; undo brings that back." if self._desk.has_unsaved else ""
        box.setInformativeText(f"What is open is as it was.{lost}")
        again = box.addButton("Read it again", Message.ButtonRole.AcceptRole)
        box.addButton("Keep what is here", Message.ButtonRole.RejectRole)
        box.buttonClicked.connect(lambda button: self._filing.open_again(path) if button is again else None)

    def _take(self, path: Path, found: Opened, cards: Cards) -> None:
        if path == self._desk.path:
            self._desk.take_again(path, found.saved, cards)
