"""Work that a crash left behind: asked about when the program begins."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from ...core.cards.card import Cards
from ...store.opening import Opened
from ...store.recovery import Left, discard, left_behind, recover
from ...store.session_file import Saved
from ..background.desk import Desk
from ..background.files import Filing
from ..look.panels import Message


class Recovering:
    """Opens it on the desk, throws it away, or leaves it for later."""

    def __init__(self, desk: Desk, filing: Filing, window: QWidget) -> None:
        self._desk, self._filing, self._window = desk, filing, window

    def offer(self) -> None:
        """Asks about work that a crash left behind, if there is any."""
        left = left_behind()
        if not left:
            return
        box = Message(self._window)
        box.setIcon(Message.Icon.Question)
        box.setText("Nimble Load did not end properly the last time. Unsaved work is here.")
        box.setInformativeText(f"It belongs to {left[0].original or 'a session that was never saved'}.")
        take = box.addButton("Open it", Message.ButtonRole.AcceptRole)
        drop = box.addButton("Throw it away", Message.ButtonRole.DestructiveRole)
        box.addButton("Leave it for later", Message.ButtonRole.RejectRole)
        box.buttonClicked.connect(
            lambda button: self.recover(left[0]) if button is take else discard(left[0]) if button is drop else None
        )
        box.open()

    def recover(self, left: Left) -> None:
        """Opens work that was left behind, as unsaved; reads it off the window's thread."""

        def read() -> tuple[Saved, Cards]:
            saved = recover(left)
            return saved, self._filing.cards_for(Opened(saved))

        failure = f"what was left behind could not be opened, and is kept at {left.copy}"
        self._desk.jobs.run(read, lambda found: self._take(left, *found), failure)

    def _take(self, left: Left, saved: Saved, cards: Cards) -> None:
        self._desk.open(saved, dict(cards), left.original, unsaved=True)
        self._filing.replace(left, self._desk.saved() or saved, left.original)
