"""What the program remembers between runs: window, theme, text size, recent files."""

from __future__ import annotations

from pathlib import Path

import platformdirs
from PySide6.QtCore import QByteArray, QSettings

from ...store.audio import FORMATS
from ..look.theme import SCALES

MOST_RECENT = 8


class Remembered:
    """The user's choices in an INI file in his configuration folder. A damaged file counts as empty."""

    def __init__(self, path: Path | None = None) -> None:
        path = path or Path(platformdirs.user_config_dir("nimble-load")) / "window.ini"
        self._settings = QSettings(str(path), QSettings.Format.IniFormat)

    @property
    def theme(self) -> str:
        return str(self._settings.value("theme", "desktop"))

    @theme.setter
    def theme(self, name: str) -> None:
        self._settings.setValue("theme", name)

    @property
    def scale(self) -> int:
        try:
            value = int(str(self._settings.value("scale", 100)))
        except ValueError:
            return 100
        return value if value in SCALES else 100

    @scale.setter
    def scale(self, value: int) -> None:
        self._settings.setValue("scale", value)

    @property
    def file_kind(self) -> str:
        """In which kind of file audio is written (see `store.audio.FORMATS`)."""
        stored = str(self._settings.value("files/kind", "wav"))
        return stored if stored in FORMATS else "wav"

    @file_kind.setter
    def file_kind(self, kind: str) -> None:
        self._settings.setValue("files/kind", kind)

    @property
    def closed_hints(self) -> set[str]:
        """The places whose hint was closed for good."""
        stored = self._settings.value("hints/closed", "")
        return {name for name in str(stored or "").split("|") if name}

    @closed_hints.setter
    def closed_hints(self, places: set[str]) -> None:
        self._settings.setValue("hints/closed", "|".join(sorted(places)))

    @property
    def recent(self) -> list[Path]:
        """Files opened lately that still exist, the latest first."""
        stored = self._settings.value("recent", [])
        names = [stored] if isinstance(stored, str) else stored if isinstance(stored, list) else []
        return [Path(name) for name in names if Path(name).exists()]

    def add_recent(self, path: Path) -> None:
        others = [p for p in self.recent if p != path.absolute()]
        self._settings.setValue("recent", [str(p) for p in [path.absolute(), *others][:MOST_RECENT]])

    def remember(self, name: str, state: QByteArray) -> None:
        self._settings.setValue(f"layout/{name}", state)

    def remembered(self, name: str) -> QByteArray | None:
        state = self._settings.value(f"layout/{name}")
        return state if isinstance(state, QByteArray) else None
