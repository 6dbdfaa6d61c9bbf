"""Builds echoes.c, a plugin that answers late: with a latency, with echoes far apart, or both."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from tests.helpers.searching import ladspa_found

SOURCE = Path(__file__).with_name("echoes.c")
BY_BLOCK = -1.0


def build(folder: Path) -> Path | None:
    """Builds it in a folder; None without a C compiler."""
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        return None
    subprocess.run([compiler, "-O1", "-shared", "-fPIC", "-o", str(folder / "echoes.so"), str(SOURCE)], check=True)
    return folder


def installed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Has a search find it, built and looked into once for all tests; skips without a C compiler."""
    ladspa_found(SOURCE, build, folder, monkeypatch)


def use(late: float = 0.0, apart: float = 0.0, feedback: float = 0.0) -> PluginUse:
    """It, late by so many samples (BY_BLOCK: a block), with echoes so many seconds apart, each so much softer."""
    values = (("Late", late), ("Apart", apart), ("Feedback", feedback))
    return PluginUse("echoes", PluginRef("ladspa", "78:echoes", "Echoes"), Setting(values), channels=1)
