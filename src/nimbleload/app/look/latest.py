"""What a dialog has to ask anew when a choice in it changes: a little later, and only the last answer counts."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QDialog

ASK_AFTER_MS = 60


class Latest(QTimer):
    """Calls `ask` a little after the last `soon`. Answers to what was asked before, and those that come when the dialog
    is gone, are dropped."""

    def __init__(self, dialog: QDialog, ask: Callable[[], None]) -> None:
        super().__init__(dialog)
        self.setSingleShot(True)
        self.setInterval(ASK_AFTER_MS)
        self.timeout.connect(ask)
        self._number = 0
        dialog.finished.connect(self._forget)

    def soon(self) -> None:
        """Something has changed."""
        self._forget()
        self.start()

    def only(self, then: Callable[..., object]) -> Callable[..., None]:
        """What takes the answer, as long as nothing has changed."""
        number = self._number

        def take(*answer: Any) -> None:
            if number == self._number:
                then(*answer)

        return take

    def _forget(self) -> None:
        self._number += 1
