"""Builds keeps.c, plugins that keep memory as real ones do."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse, Setting
from tests.helpers.searching import ladspa_found

SOURCE = Path(__file__).with_name("keeps.c")
MB = 1 << 20
LABELS = ("own", "pool", "line", "samples", "child", "grows", "wide", "passing", "slowly")


def build(folder: Path) -> Path | None:
    """Builds them in a folder, with the file that one of them plays from; None without a C compiler."""
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        return None
    target, keeper = folder / "keeps.so", folder / "keeps.so.keeper"
    subprocess.run([compiler, "-O1", "-shared", "-fPIC", "-o", str(target), str(SOURCE)], check=True)
    subprocess.run([compiler, "-O1", "-DKEEPER", "-o", str(keeper), str(SOURCE)], check=True)
    target.with_name("keeps.so.raw").write_bytes(b"\1" * (40 * MB))
    return folder


def installed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Has a search find them, built and looked into once for all tests; skips without a C compiler."""
    ladspa_found(SOURCE, build, folder, monkeypatch)


def use(label: str) -> PluginUse:
    """One of them by its label."""
    plugin = PluginRef("ladspa", f"{901 + LABELS.index(label)}:{label}", label)
    return PluginUse(label, plugin, Setting((), None), channels=1)
