"""Where the plugin files of each standard lie; none of them is opened."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from ...machine.plugin_files import folders


def files_in(folders: Iterable[Path], pattern: str) -> list[Path]:
    """What matches a pattern in these folders, each once; folders that do not exist hold nothing."""
    found: dict[Path, None] = {}
    for folder in folders:
        if folder.is_dir():
            found.update(dict.fromkeys(sorted(folder.glob(pattern))))
    return list(found)


def clap_files() -> list[Path]:
    """Every `.clap` file in the search paths, each once."""
    return [path for path in files_in(folders("clap"), "**/*.clap") if path.is_file()]


def ladspa_files() -> list[Path]:
    """Every LADSPA file: LADSPA_PATH if it is set, else the standard's own folders."""
    given = os.environ.get("LADSPA_PATH", "")
    places = given.split(":") if given else [str(Path.home() / ".ladspa"), "/usr/local/lib/ladspa", "/usr/lib/ladspa"]
    return files_in(map(Path, places), "*.so")


def vst3_files() -> list[Path]:
    """Every bundle or file: those in VST3_PATH first, then in the standard's own folders."""
    return files_in(folders("vst3"), "**/*.vst3")
