"""What is taken along to other tracks, sessions and windows: the clipboard, and the shelf."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtGui import QGuiApplication

from ...core.session import chain_edits, joined
from ...core.session.plugins import PluginUse
from ...store import clipping
from .shelf_dialog import ShelfDialog, ask_keep

CHOOSE = "Choose a track first: plugins go into that one's chain."


class TakingAlong:
    """Copies, cuts and pastes on the Session page, and keeps chains for later."""

    def __init__(self, page: Any) -> None:
        self._page = page

    def copy(self) -> bool:
        """Puts the chosen plugins, or tracks, on the clipboard as text; whether there were any."""
        strips, uses = self._page.view.selected_strips(), self._page.chosen_uses()
        if uses or strips:
            QGuiApplication.clipboard().setText(clipping.as_text(() if uses else strips, uses))
        return bool(uses or strips)

    def cut(self) -> None:
        if self.copy():
            self._page.remove()

    def paste(self) -> None:
        """Puts in what is on the clipboard: tracks, or plugins into the chosen track's chain."""
        try:
            found = clipping.from_text(QGuiApplication.clipboard().text())
        except clipping.NoClippingError as error:
            self._page.news.setText(f"Nothing was pasted: {error}.")
            return
        if found.tracks:
            self._page.adding("paste tracks", lambda session: joined.pasted(session, found.tracks))
        else:
            self._put_all("paste plugins", found.plugins)

    def _put_all(self, what: str, plugins: Sequence[PluginUse]) -> None:
        """Puts plugins at the end of the chosen track's chain; those that listened to what is not here do no more."""
        strips = self._page.view.selected_strips()
        if not strips:
            self._page.news.setText(CHOOSE)
            return
        ids = {strip.id for strip in self._page.model.strips}
        uses = [u if u.sidechain in ids else chain_edits.listening_to_nothing(u) for u in plugins]
        self._page.edit(what, lambda session: chain_edits.insert(session, strips[0].id, uses, None))

    def keep(self) -> None:
        """Keeps the chosen plugins, or the chosen track's inserts, on the shelf."""
        strips = self._page.view.selected_strips()[:1]
        uses = self._page.chosen_uses() or [use for strip in strips for use in strip.inserts]
        if uses:
            ask_keep(self._page, uses, self._page.news.setText)
        else:
            self._page.news.setText("Choose plugins, or a track: its chain is kept.")

    def open_shelf(self) -> None:
        """Shows what is kept, to be put into the chosen track's chain."""
        dialog = ShelfDialog(self._page)
        dialog.taken.connect(lambda uses, name: self._put_all(f"put in {name}", uses))
        dialog.open()
