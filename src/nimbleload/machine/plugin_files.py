"""Whether a mapped file is a plugin's, told by where it lies: each standard prescribes its folders."""

from __future__ import annotations

from functools import lru_cache
from pathlib import PurePosixPath

GONE = " (deleted)"


@lru_cache(4096)
def plugin_file(path: str) -> str:
    """The path by which a plugin's file is known (that of its bundle, where it lies in one); empty if it is none.

    A CLAP or VST3 file or bundle is known by its ending, an LV2 bundle by that of its folder, a LADSPA file by the name
    of its folder.
    """
    path = path.removesuffix(GONE)
    if not path.startswith("/"):
        return ""
    parts = PurePosixPath(path).parts
    for count, part in enumerate(parts[1:], 2):
        ending = PurePosixPath(part).suffix
        if ending in (".clap", ".vst3") or (ending == ".lv2" and count < len(parts)):
            return str(PurePosixPath(*parts[:count]))
    return path if "ladspa" in parts[:-1] and path.endswith(".so") else ""


def standard(path: str) -> str:
    """The standard of a plugin's file, as `plugin_file` names it."""
    ending = PurePosixPath(path).suffix
    return {".clap": "clap", ".vst3": "vst3", ".lv2": "lv2"}.get(ending, "ladspa")


def short(path: str) -> str:
    """A plugin's file without folders and ending."""
    return PurePosixPath(path).stem
