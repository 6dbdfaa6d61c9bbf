"""Whether a mapped file is a plugin's, told by where it lies: each standard prescribes its folders."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path, PurePosixPath

GONE = " (deleted)"
BINARY = re.compile(r"(?:\blv2(?:core)?:binary|lv2core#binary>)\s*<([^>]+)>")
# Where the code of each standard's plugins lies in its folders.
CODE = {"lv2": "*.lv2/*.so", "clap": "**/*.clap", "vst3": "**/*.vst3/Contents/*/*.so", "ladspa": "*.so"}


@lru_cache(4096)
def plugin_file(path: str) -> str:
    """The path by which a plugin's file is known (that of its bundle, where it lies in one); empty if it is none.

    A CLAP or VST3 file or bundle is known by its ending, an LV2 bundle by that of its folder, a LADSPA file by the name
    of its folder; a file elsewhere by a link to it that lies so, as some packages have it. Where the plugins of one LV2
    bundle lie in several files, each is known by its own. One made for Windows in the format before VST3 is a library
    that lies in a folder with "vst" in its name.
    """
    path = path.removesuffix(GONE)
    if not path.startswith("/"):
        return ""
    return _by_place(path) or linked().get(path, "")


@lru_cache(1)
def linked() -> dict[str, str]:
    """The files elsewhere to which links in the folders of plugins lead, and by what each is known."""
    found = {}
    for link in _code():
        try:
            real = str(link.resolve(strict=True))
        except (OSError, RuntimeError):
            continue
        if not _by_place(real):
            found[real] = _by_place(str(link))
    return found


def folders(kind: str) -> list[Path]:
    """Where plugins of a standard lie: what the user has named (as in CLAP_PATH), then the standard's own folders."""
    given = [Path(each) for each in os.environ.get(f"{kind.upper()}_PATH", "").split(":") if each]
    return [*given, Path.home() / f".{kind}", Path("/usr/lib") / kind, Path("/usr/local/lib") / kind]


def _code() -> Iterator[Path]:
    """Everything that may be a plugin's code in the folders of the standards."""
    for kind, pattern in CODE.items():
        for folder in (*folders(kind), *Path("/usr/lib").glob(f"*-linux-gnu/{kind}")):
            yield from folder.glob(pattern)


def _by_place(path: str) -> str:
    parts = PurePosixPath(path).parts
    for count, part in enumerate(parts[1:], 2):
        ending = PurePosixPath(part).suffix.lower()
        if ending in (".clap", ".vst3"):
            return str(PurePosixPath(*parts[:count]))
        if ending == ".lv2" and count < len(parts):
            bundle, inside = str(PurePosixPath(*parts[:count])), str(PurePosixPath(*parts[count:]))
            codes = _codes(bundle)
            return path if len(codes) > 1 and inside in codes else bundle
    if path.lower().endswith(".dll"):
        return path if any("vst" in part.lower() for part in parts[:-1]) else ""
    return path if "ladspa" in parts[:-1] and path.endswith(".so") else ""


@lru_cache(1024)
def _codes(bundle: str) -> frozenset[str]:
    """In which files the plugins of an LV2 bundle lie, as its manifest has it; those of windows are not among them."""
    try:
        return frozenset(BINARY.findall((Path(bundle) / "manifest.ttl").read_text(errors="replace")))
    except OSError:
        return frozenset()
