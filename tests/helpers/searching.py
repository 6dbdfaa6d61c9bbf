"""What a search for plugins finds in a test, kept apart from what it finds in others."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from nimbleload.probe import catalogue


def apart(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Has searches keep in a folder what they find; what this computer has is known there already."""
    if not catalogue.cache_file().exists():
        catalogue.catalogue()
    known = catalogue.cache_file()
    monkeypatch.setenv("XDG_CACHE_HOME", str(folder / "cache"))
    own = catalogue.cache_file()
    if own != known:
        own.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(known, own)
