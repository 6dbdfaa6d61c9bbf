"""What a search for plugins finds in a test, kept apart from what it finds in others."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Any, TypeVar

import pytest

from nimbleload.probe import catalogue

T = TypeVar("T")
# What has been built for tests of this process, and what searches have found then, by what it was made of.
_BUILT: dict[Hashable, Any] = {}
_FOUND: dict[Hashable, dict[str, bytes]] = {}


def built_once(made_of: Hashable, build: Callable[[Path], T]) -> T:
    """What was built in a folder of its own, which all tests leave as it is; it goes with the process."""
    if made_of not in _BUILT:
        folder = Path(tempfile.mkdtemp(prefix="nimble-tests-"))
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        _BUILT[made_of] = build(folder)
    found: T = _BUILT[made_of]
    return found


def found_once(made_of: Hashable) -> None:
    """Has searches know what they find where something was built: it is looked into once."""
    if made_of not in _FOUND:
        catalogue.catalogue()
        _FOUND[made_of] = {file.name: file.read_bytes() for file in _kept()}
    for name, found in _FOUND[made_of].items():
        catalogue.cache_file().with_name(name).write_bytes(found)


def ladspa_found(
    source: Path, build: Callable[[Path], Path | None], folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:  # fmt: skip
    """Has a search find LADSPA plugins that `build` makes of a C source, built and looked into once for all tests;
    skips where there is no C compiler."""
    built = built_once(source, build)
    if built is None:
        pytest.skip("no C compiler to build the test plugins with")
    apart(folder, monkeypatch)
    monkeypatch.setenv("LADSPA_PATH", str(built))
    found_once(source)


def _kept() -> list[Path]:
    """Where is kept what files there are, and what lies in those that hold several plugins, if there are any."""
    files = catalogue.cache_file()
    return [file for file in (files, catalogue.inside_file(files)) if file.exists()]


def apart(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Has searches keep in a folder what they find; what this computer has is known there already."""
    if not catalogue.cache_file().exists():
        catalogue.catalogue()
    known = _kept()
    monkeypatch.setenv("XDG_CACHE_HOME", str(folder / "cache"))
    for file in known:
        own = catalogue.cache_file().with_name(file.name)
        if own != file:
            own.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(file, own)
