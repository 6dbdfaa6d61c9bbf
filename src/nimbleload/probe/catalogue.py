"""Which plugins are installed: every file is looked into by a process of its own, and what it holds is remembered."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec
import platformdirs

from ..core.cards.families import Kind, kind
from ..store import atomic
from .standards import ALL_LV2, ENDINGS, STANDARDS

SECONDS = 20.0


class Installed(msgspec.Struct, frozen=True):
    """One installed plugin, as its file describes it."""

    standard: str
    identifier: str
    name: str
    vendor: str
    version: str
    features: tuple[str, ...]
    path: str


class Scanned(msgspec.Struct, frozen=True):
    """What one file held when it had this modification time (ns); `failure` says why nothing could be read."""

    path: str
    modified: int
    plugins: tuple[Installed, ...] = ()
    failure: str | None = None


class Answer(msgspec.Struct, frozen=True):
    """What the scanning process says of one file."""

    path: str
    plugins: tuple[Installed, ...] = ()
    failure: str | None = None


def cache_file() -> Path:
    return Path(platformdirs.user_cache_dir("nimble-load")) / "plugins.json"


def catalogue(files: Iterable[Path] | None = None, cache: Path | None = None, retry: bool = False) -> list[Scanned]:
    """What every plugin file holds; those that have not changed since the last time are not opened again.

    With `retry`, files that could not be read are.
    """
    cache = cache or cache_file()
    known = _remembered(cache)
    there = {str(path): path.stat().st_mtime_ns for path in (plugin_files() if files is None else files)}
    if files is None:
        there[ALL_LV2] = newest_bundle()
    fresh = {p: s for p, s in known.items() if there.get(p) == s.modified and not (retry and s.failure)}
    for scanned in scan({p: modified for p, modified in there.items() if p not in fresh}):
        fresh[scanned.path] = scanned
    found = [fresh[path] for path in there]
    if found != list(known.values()):
        cache.parent.mkdir(parents=True, exist_ok=True)
        atomic.write(cache, msgspec.json.encode(found))
    return found


def plugin_files() -> list[Path]:
    """Every CLAP, VST3 and LADSPA file in the search paths."""
    return [path for name in ENDINGS.values() for path in STANDARDS[name]().files()]


def newest_bundle() -> int:
    """When anything in the folders of LV2 bundles last changed (ns); 0 if there are none."""
    given = os.environ.get("LV2_PATH", "")
    standard = [
        Path.home() / ".lv2",
        Path("/usr/lib/lv2"),
        Path("/usr/local/lib/lv2"),
        *Path("/usr/lib").glob("*-linux-gnu/lv2"),
    ]
    folders = [Path(p) for p in given.split(":") if p] if given else standard
    there = [entry for folder in folders if folder.is_dir() for entry in (folder, *folder.iterdir())]
    return max((entry.stat().st_mtime_ns for entry in there), default=0)


def _remembered(cache: Path) -> dict[str, Scanned]:
    try:
        return {s.path: s for s in msgspec.json.decode(cache.read_bytes(), type=list[Scanned])}
    except (OSError, msgspec.MsgspecError):
        return {}  # a cache that cannot be read is made anew


def scan(files: dict[str, int]) -> Iterator[Scanned]:
    """Looks into files (with their modification times) in a process of its own.

    When a file makes it crash or hang, that is the answer for this file, and another process goes on with the rest.
    """
    left = dict(files)
    while left:
        command = [sys.executable, "-m", "nimbleload.probe.scan", *left]
        try:
            limit = SECONDS + len(left)
            done = subprocess.run(
                command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, timeout=limit, check=False
            )
            output, reason = done.stdout, _ending(done.returncode)
        except subprocess.TimeoutExpired as error:
            output, reason = error.stdout or b"", f"did not answer within {SECONDS:.0f} seconds"
        for line in output.splitlines():
            try:
                answer = msgspec.json.decode(line, type=Answer)
            except msgspec.MsgspecError:
                continue  # a plugin's own words
            if answer.path in left:
                yield Scanned(answer.path, left.pop(answer.path), answer.plugins, answer.failure)
        if left:
            culprit = next(iter(left))
            yield Scanned(culprit, left.pop(culprit), failure=reason)


def _ending(code: int) -> str:
    return f"crashed: {signal.Signals(-code).name}" if code < 0 else f"ended by itself with exit code {code}"


def matching(
    scanned: Iterable[Scanned], words: Iterable[str] = (), family: str | None = None, standard: str | None = None
) -> list[tuple[Installed, Kind]]:
    """The plugins whose name, maker or identifier holds every word, with their kinds; by standard, then by name."""
    wanted = [word.lower() for word in words]
    found = [
        (plugin, kind(plugin.features, plugin.name))
        for file in scanned
        for plugin in file.plugins
        if (standard is None or plugin.standard == standard)
        and all(word in f"{plugin.name} {plugin.vendor} {plugin.identifier}".lower() for word in wanted)
    ]
    fitting = [(plugin, of) for plugin, of in found if family is None or of.family == family]
    return sorted(fitting, key=lambda each: (each[0].standard, each[0].name.lower()))


def paths_by_identifier(scanned: Iterable[Scanned]) -> dict[tuple[str, str], Installed]:
    """The installed plugin for each (standard, identifier); the first file found wins."""
    found: dict[tuple[str, str], Installed] = {}
    for file in scanned:
        for plugin in file.plugins:
            found.setdefault((plugin.standard, plugin.identifier), plugin)
    return found
