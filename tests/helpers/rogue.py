"""Builds the test plugins of rogue.c, once a run; without a C compiler the tests that need them are skipped."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from nimbleload.core.session.plugins import PluginRef, PluginUse

SOURCE = Path(__file__).with_name("rogue.c")


@pytest.fixture(scope="session")
def rogue_library(tmp_path_factory) -> Path:
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        pytest.skip("no C compiler to build the test plugins with")
    built = tmp_path_factory.mktemp("clap") / "rogue.clap"
    subprocess.run([compiler, "-O1", "-shared", "-fPIC", "-o", str(built), str(SOURCE)], check=True)
    return built


@pytest.fixture
def rogue(rogue_library, monkeypatch) -> Path:
    """The library, in the search path."""
    monkeypatch.setenv("CLAP_PATH", str(rogue_library.parent))
    return rogue_library


def rogue_use(name: str, use_id: str = "", **more) -> PluginUse:
    return PluginUse(use_id or name, PluginRef("clap", f"test.{name}", name), **more)


def zam_library(name: str) -> Path:
    """A plugin of Debian's zam-plugins; the test is skipped where it is not installed."""
    path = Path("/usr/lib/clap") / f"{name}.clap"
    if not path.exists():
        pytest.skip("Debian's zam-plugins are not installed")
    return path
