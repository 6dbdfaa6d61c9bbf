"""The parameters of plugins, asked of the plugins themselves off the window's thread, each setting only once."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import msgspec
from PySide6.QtCore import QObject, Signal

from ...core.session.plugins import PluginUse, Setting
from ...core.told.trouble import trouble_of
from ...core.units import said_by, told_by
from ...probe.describing import told
from ...probe.formats.hosted import Parameter, Preset
from ...probe.isolation import Failure
from ...probe.messages import ParametersMessage
from ..background.to_window_thread import ToWindowThread

log = logging.getLogger(__name__)
Key = tuple[str, str, str]
# So many settings are kept, with the states that they stand for; the oldest go first.
MOST = 256


def key_of(use: PluginUse) -> Key:
    """What uses have in common that have the same parameters."""
    return (use.plugin.standard, use.plugin.identifier, use.plugin.version)


class Parameters(QObject):
    """Keeps what plugins have told. `told` says of which kind something is known now; `tried` brings a state that was
    tried on plugins, its name, and why they do not take it, in a sentence (empty if they do)."""

    told = Signal(object)
    tried = Signal(object, str, object, str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._to_window = ToWindowThread(self)
        self._work = ThreadPoolExecutor(1, "parameters")
        self._known: dict[tuple[Key, Setting], tuple[Parameter, ...] | str] = {}
        self._presets: dict[Key, tuple[Preset, ...]] = {}
        self._asked: set[tuple[Key, Setting]] = set()
        self._closed = False

    def of(self, use: PluginUse, rate: int) -> tuple[Parameter, ...] | str | None:
        """What is known of a plugin's parameters in this use's setting: them, or why not; None if it is being asked.

        While it is asked about values that were set over the same state, what it told of that state comes: it holds for
        all that was not set.
        """
        key = (key_of(use), use.setting)
        if key not in self._known and key not in self._asked:
            self._asked.add(key)
            self._work.submit(self._ask, key, use, rate)
        return self._known.get(key, self._known.get((key[0], Setting((), use.setting.state))))

    def presets(self, use: PluginUse) -> tuple[Preset, ...]:
        """The presets that a plugin was found to have; none while it has not been asked."""
        return self._presets.get(key_of(use), ())

    def try_state(self, uses: Sequence[PluginUse], name: str, read: Callable[[], bytes], rate: int) -> None:
        """Gives a state to the first of some plugins, all of one kind, in a worker; tells whether it takes it."""
        self._work.submit(self._try, uses[0], [use.id for use in uses], name, read, rate)

    def _try(self, use: PluginUse, use_ids: list[str], name: str, read: Callable[[], bytes], rate: int) -> None:
        state, why = b"", ""
        try:
            state = read()
            setting = msgspec.structs.replace(use.setting, values=(), state=state)
            found = told(msgspec.structs.replace(use, setting=setting), rate, lambda: self._closed)
            why = found.reason if isinstance(found, Failure) else ""
        except OSError as error:
            why = f"cannot be read: {said_by(error)}"
        except Exception as error:
            log.exception("trying a state of %s failed", use.label)
            why = f"could not be tried: {told_by(error)}"
        self._to_window.post(self.tried.emit, use_ids, name, state, trouble_of(use.label, why, "it") if why else "")

    def _ask(self, key: tuple[Key, Setting], use: PluginUse, rate: int) -> None:
        try:
            found = told(use, rate, lambda: self._closed)
        except Exception as error:
            log.exception("asking %s for its parameters failed", use.label)
            found = Failure(f"could not be asked: {told_by(error)}")
        self._to_window.post(self._take, key, found)

    def _take(self, key: tuple[Key, Setting], found: ParametersMessage | Failure) -> None:
        self._asked.discard(key)
        while len(self._known) >= MOST:
            del self._known[next(iter(self._known))]
        if isinstance(found, Failure):
            self._known[key] = found.reason
        else:
            self._known[key], self._presets[key[0]] = found.parameters, found.presets
        self.told.emit(key[0])

    def close(self) -> None:
        """Ends what is being asked; nothing is told after."""
        self._closed = True
        self._to_window.close()
        self._work.shutdown(wait=True, cancel_futures=True)
