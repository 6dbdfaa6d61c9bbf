"""The clips that are chosen on the Session page: moved and copied along the piece, and taken out."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject

from ...core.session import time_edits
from ...core.session.session import Session
from .strip_view import StripView

STEP = 1.0


class ChosenClips(QObject):
    """Asks for edits of the clips that are chosen in a tree, through `edit` (what it is called, the change; the session
    after it, or None if it cannot be)."""

    def __init__(self, view: StripView, edit: Callable[[str, Callable[[Session], Session]], Session | None]) -> None:
        super().__init__(view)
        self._view, self._edit = view, edit
        view.clips_moved.connect(self.move)

    @property
    def are_there(self) -> bool:
        """Whether any is chosen."""
        return bool(self._view.chosen_clips())

    def move(self, by: float, copies: bool = False) -> None:
        """Moves or copies them by so many seconds; what comes of them is chosen then."""
        chosen = self._view.chosen_clips()
        made = self._edit("copy clips" if copies else "move clips",
                          lambda session: time_edits.move_clips(session, chosen, by, copies))  # fmt: skip
        if made is not None:
            self._view.choose_clips(time_edits.moved(chosen, by))

    def remove(self) -> None:
        chosen = self._view.chosen_clips()
        self._edit("take out clips", lambda session: time_edits.take_out_clips(session, chosen))
