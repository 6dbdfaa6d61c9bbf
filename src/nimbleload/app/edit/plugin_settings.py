"""How plugins are set beyond single values: presets, saved states, and their own windows; each tried in a worker."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, Signal

from ...core.session import chain_edits
from ...core.session.plugins import PluginUse, Setting
from ...core.told.trouble import trouble_of
from ...probe.formats.hosted import Parameter
from .inspector import Inspector
from .own_windows import OwnWindows
from .parameters import Parameters


class PluginSettings(QObject):
    """Serves the inspector. `wanted` asks for an edit: its name, and what makes it; `news` brings a sentence; `told`
    says that more is known of a plugin now."""

    wanted = Signal(str, object)
    news = Signal(str)
    told = Signal()

    def __init__(self, inspector: Inspector, parent: QObject) -> None:
        super().__init__(parent)
        self._inspector = inspector
        self._uses: list[PluginUse] = []
        self._rate, self._place = 48000, ""
        self.parameters, self.windows = Parameters(self), OwnWindows(self)
        inspector.state_wanted.connect(self._try_state)
        inspector.window_wanted.connect(self._open_or_close)
        self.parameters.told.connect(lambda _: self.told.emit())
        self.parameters.tried.connect(self._take_state)
        self.windows.told.connect(self._tell_window)
        self.windows.left.connect(self._take_left)
        self.windows.failed.connect(lambda use, why: self.news.emit(trouble_of(use.label, why)))

    def known(self, uses: Sequence[PluginUse], rate: int) -> tuple[Parameter, ...] | str | None:
        """What is known of the parameters of the first of these plugins (see `Parameters.of`)."""
        return self.parameters.of(uses[0], rate) if uses else ()

    def show(self, uses: Sequence[PluginUse], rate: int, place: str) -> None:
        """These plugins are chosen; `place` names the track that the first is on."""
        self._uses, self._rate, self._place = list(uses), rate, place
        self._inspector.show_presets(self.parameters.presets(uses[0]) if uses else ())
        self._tell_window(uses[0].id if uses else "")

    def _tell_window(self, use_id: str) -> None:
        if [use.id for use in self._uses[:1]] == [use_id]:
            self._inspector.show_window(self.windows.words(use_id))

    def open_window(self) -> None:
        """Opens the own window of the first chosen plugin."""
        if self._uses:
            use = self._uses[0]
            self.windows.open(use, self._rate, f"{use.label} on {self._place}")

    def _open_or_close(self) -> None:
        if self._uses and self.windows.words(self._uses[0].id):
            self.windows.close(self._uses[0].id)
        else:
            self.open_window()

    def _take_left(self, use: PluginUse, setting: Setting | None, words: str) -> None:
        """A window was closed: what was set in it is one edit."""
        if setting is not None:
            self.wanted.emit(
                f"set {use.label} in its window",
                lambda session: chain_edits.with_setting(session, use.id, setting),
            )
        self.news.emit(words)

    def _try_state(self, name: str, read: Callable[[], bytes]) -> None:
        """Gives the chosen plugins a state in a worker before it is taken into the session."""
        if self._uses:
            self.news.emit(f"{self._uses[0].label} tries {name} …")
            self.parameters.try_state(self._uses, name, read, self._rate)

    def _take_state(self, use_ids: list[str], name: str, state: bytes, why: str) -> None:
        if why:
            self.news.emit(f"{name} was not taken: {why} Nothing has changed.")
        else:
            self.wanted.emit(f"preset {name}", lambda session: chain_edits.set_state(session, use_ids, state))

    def close_down(self) -> None:
        """Ends what is being asked, and every window; nothing is told after."""
        self.windows.close_all()
        self.parameters.close()
