"""What the program remembers between runs: window, theme, text size, recent files."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import platformdirs
from PySide6.QtCore import QByteArray, QSettings

from ...store.audio import FORMATS
from ..background.jobs import guarded
from ..look.theme import SCALES

log = logging.getLogger(__name__)

MOST_RECENT = 8


class Remembered:
    """The user's choices in an INI file in his configuration folder. A damaged file counts as empty.

    It is read once, and written in a thread of its own; and another looks which of the files that were open lately are
    still there. A disk may be slow, and a folder of a network that is gone.
    """

    def __init__(self, path: Path | None = None) -> None:
        self._path = str(path or Path(platformdirs.user_config_dir("nimble-load")) / "window.ini")
        settings = QSettings(self._path, QSettings.Format.IniFormat)
        self._values = {key: settings.value(key) for key in settings.allKeys()}
        self._work = ThreadPoolExecutor(1, "choices")
        self._missing: frozenset[Path] = frozenset()

    def _choose(self, key: str, value: object) -> None:
        self._values[key] = value
        failure = f"what was chosen ({key}) was not written to {self._path}"
        self._work.submit(guarded, lambda: self._write(key, value), failure, "It is forgotten at the end.", log.warning)

    def _write(self, key: str, value: object) -> None:
        settings = QSettings(self._path, QSettings.Format.IniFormat)
        settings.setValue(key, value)
        settings.sync()
        if settings.status() == QSettings.Status.AccessError:
            raise OSError("it may not be written, or there is no room")

    def flush(self) -> None:
        """Waits until all that was chosen is in the file."""
        self._work.submit(lambda: None).result()

    @property
    def theme(self) -> str:
        return str(self._values.get("theme", "desktop"))

    @theme.setter
    def theme(self, name: str) -> None:
        self._choose("theme", name)

    @property
    def scale(self) -> int:
        try:
            value = int(str(self._values.get("scale", 100)))
        except ValueError:
            return 100
        return value if value in SCALES else 100

    @scale.setter
    def scale(self, value: int) -> None:
        self._choose("scale", value)

    @property
    def file_kind(self) -> str:
        """In which kind of file audio is written (see `store.audio.FORMATS`)."""
        stored = str(self._values.get("files/kind", "wav"))
        return stored if stored in FORMATS else "wav"

    @file_kind.setter
    def file_kind(self, kind: str) -> None:
        self._choose("files/kind", kind)

    @property
    def closed_hints(self) -> set[str]:
        """The places whose hint was closed for good."""
        stored = self._values.get("hints/closed", "")
        return {name for name in str(stored or "").split("|") if name}

    @closed_hints.setter
    def closed_hints(self, places: set[str]) -> None:
        self._choose("hints/closed", "|".join(sorted(places)))

    @property
    def recent(self) -> list[Path]:
        """Files opened lately but those that are known to be gone (see `look`), the latest first."""
        return [path for path in self._stored() if path not in self._missing]

    def _stored(self) -> list[Path]:
        stored = self._values.get("recent", [])
        names = [stored] if isinstance(stored, str) else stored if isinstance(stored, list) else []
        return [Path(name) for name in names]

    def look(self, then: Callable[[], object]) -> None:
        """Looks in a thread which of them are gone; `then` is called in it if those are others than before."""

        def work() -> None:
            missing = frozenset(filter(_is_gone, self._stored()))
            if missing != self._missing:
                self._missing = missing
                then()

        threading.Thread(target=work, daemon=True).start()

    def add_recent(self, path: Path) -> None:
        self._missing -= {path.absolute()}
        others = [p for p in self.recent if p != path.absolute()]
        self._choose("recent", [str(p) for p in [path.absolute(), *others][:MOST_RECENT]])

    def remember(self, name: str, state: QByteArray) -> None:
        self._choose(f"layout/{name}", state)

    def remembered(self, name: str) -> QByteArray | None:
        state = self._values.get(f"layout/{name}")
        return state if isinstance(state, QByteArray) else None


def _is_gone(path: Path) -> bool:
    """Whether there is surely no such file any more."""
    try:
        return not path.exists()
    except OSError:
        return False  # what may not be looked at says so when it is opened
