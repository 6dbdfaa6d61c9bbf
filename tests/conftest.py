"""Every test runs in folders of its own and without a display."""

from __future__ import annotations

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import pytest

from tests.helpers.rogue import rogue, rogue_library  # noqa: F401


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory, monkeypatch):
    """The user's configuration, data, state and cache folders are empty and thrown away."""
    home = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("HOME", str(home))
    for name in ("CONFIG", "DATA", "STATE", "CACHE"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(home / name.lower()))
    monkeypatch.delenv("CLAP_PATH", raising=False)
