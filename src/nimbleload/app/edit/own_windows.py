"""Plugins' own windows, each in a worker process of its own, followed in a thread each."""

from __future__ import annotations

import logging
import threading

from PySide6.QtCore import QObject, Signal

from ...core.session.plugins import PluginUse, Setting
from ...core.told.own_window import closed, is_open
from ...core.units import told_by
from ...probe.isolation import Failure
from ...probe.plugin_window import Left, OwnWindow, Takes, taken
from ..background.to_window_thread import ToWindowThread

log = logging.getLogger(__name__)


class OwnWindows(QObject):
    """The windows that are open, by use id. `told` says that there is news of one; `left` brings the use, the setting
    in which its window was closed (None if nothing was changed) and a sentence; `failed` the use and why there is no
    window (any more)."""

    told = Signal(str)
    left = Signal(object, object, str)
    failed = Signal(object, str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._open: dict[str, OwnWindow | None] = {}
        self._words: dict[str, str] = {}
        self._closed = False

    def words(self, use_id: str) -> str:
        """What there is to say of a use's window; nothing if it is not open."""
        return self._words.get(use_id, "")

    def open(self, use: PluginUse, rate: int, title: str) -> None:
        """Opens a use's window, unless it is open."""
        if use.id in self._open or self._closed:
            return
        self._open[use.id] = None
        self._tell(use.id, "Its own window opens…")
        threading.Thread(target=self._follow, args=(use, rate, title), name="plugin window", daemon=True).start()

    def close(self, use_id: str) -> None:
        """Closes a use's window as its user would: what was set in it is taken."""
        window = self._open.get(use_id)
        if window is not None:
            window.close()

    def _follow(self, use: PluginUse, rate: int, title: str) -> None:
        """In a thread of its own: from the opening of a window to its end."""
        seen: list[Takes] = []
        try:
            window = OwnWindow(use, rate, title)
            self._to_window.post(self._keep, use.id, window)
            for event in window.events(lambda: self._closed):
                if isinstance(event, Failure):
                    self._to_window.last(self._fail, use, event.reason)
                    return
                if isinstance(event, Left):
                    self._to_window.last(self._leave, use, event, seen)
                    return
                if isinstance(event, Takes):
                    seen.append(event)
                    self._to_window.post(self._tell, use.id, is_open(*event))
                else:
                    self._to_window.post(self._tell, use.id, is_open())
        except Exception as error:
            log.exception("the window of %s failed", use.label)
            self._to_window.last(self._fail, use, f"could not be shown: {told_by(error)}")

    def _keep(self, use_id: str, window: OwnWindow) -> None:
        self._open[use_id] = window

    def _tell(self, use_id: str, words: str) -> None:
        self._words[use_id] = words
        self.told.emit(use_id)

    def _forget(self, use_id: str) -> None:
        self._open.pop(use_id, None)
        self._words.pop(use_id, None)

    def _leave(self, use: PluginUse, left: Left, seen: list[Takes]) -> None:
        self._forget(use.id)
        setting: Setting | None = left.setting if left.changed else None
        self.left.emit(use, setting, closed(use.label, left.changed, *taken(seen)))
        self.told.emit(use.id)

    def _fail(self, use: PluginUse, why: str) -> None:
        self._forget(use.id)
        self.failed.emit(use, why)
        self.told.emit(use.id)

    def close_all(self) -> None:
        """Ends every window at once; nothing is taken, and nothing is told after."""
        self._closed = True
        self._to_window.close()
