"""The parameters of plugins, asked of the plugins themselves off the window's thread, each kind only once."""

from __future__ import annotations

import logging
from concurrent.futures import ThreadPoolExecutor

from PySide6.QtCore import QObject, Signal

from ...core.session.plugins import PluginUse
from ...probe.describing import parameters
from ...probe.formats.hosted import Parameter
from ...probe.isolation import Failure
from ..landing import Landing

log = logging.getLogger(__name__)
Key = tuple[str, str, str]


def key_of(use: PluginUse) -> Key:
    """What uses have in common that have the same parameters."""
    return (use.plugin.standard, use.plugin.identifier, use.plugin.version)


class Parameters(QObject):
    """Keeps what plugins have told. `told` says of which kind something is known now."""

    told = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._landing = Landing(self)
        self._work = ThreadPoolExecutor(1, "parameters")
        self._known: dict[Key, tuple[Parameter, ...] | str] = {}
        self._asked: set[Key] = set()
        self._closed = False

    def of(self, use: PluginUse, rate: int) -> tuple[Parameter, ...] | str | None:
        """What is known of a plugin's parameters: them, or why not; None if it is being asked."""
        key = key_of(use)
        if key not in self._known and key not in self._asked:
            self._asked.add(key)
            self._work.submit(self._ask, key, use, rate)
        return self._known.get(key)

    def _ask(self, key: Key, use: PluginUse, rate: int) -> None:
        try:
            found = parameters(use, rate, lambda: self._closed)
        except Exception as error:
            log.exception("asking %s for its parameters failed", use.label)
            found = Failure(f"could not be asked: {error}")
        self._landing.post(self._take, key, found)

    def _take(self, key: Key, found: tuple[Parameter, ...] | Failure) -> None:
        self._known[key] = found.reason if isinstance(found, Failure) else found
        self.told.emit(key)

    def close(self) -> None:
        """Ends what is being asked; nothing is told after."""
        self._closed = True
        self._landing.close()
        self._work.shutdown(wait=True, cancel_futures=True)
