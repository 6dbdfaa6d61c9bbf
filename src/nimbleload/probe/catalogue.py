"""Which plugins are installed: every file is looked into by a process of its own, and what it holds is remembered."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path

import msgspec
import platformdirs

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


def cache_file() -> Path:
    return Path(platformdirs.user_cache_dir("nimble-load")) / "plugins.json"


def catalogue(files: Iterable[Path] | None = None, cache: Path | None = None) -> list[Scanned]:
    """What every plugin file holds; those that have not changed since the last time are not opened again."""
    from .formats import clap

    cache = cache or cache_file()
    known = _remembered(cache)
    found = []
    for path in clap.files() if files is None else files:
        modified = path.stat().st_mtime_ns
        scanned = known.get(str(path))
        if scanned is None or scanned.modified != modified:
            scanned = scan(path, modified)
        found.append(scanned)
    if found != list(known.values()):
        cache.parent.mkdir(parents=True, exist_ok=True)
        fresh = cache.with_suffix(".new")
        fresh.write_bytes(msgspec.json.encode(found))
        fresh.replace(cache)
    return found


def _remembered(cache: Path) -> dict[str, Scanned]:
    try:
        return {s.path: s for s in msgspec.json.decode(cache.read_bytes(), type=list[Scanned])}
    except (OSError, msgspec.MsgspecError):
        return {}  # a cache that cannot be read is made anew


def scan(path: Path, modified: int) -> Scanned:
    """Looks into one file in a process of its own; a crash or a hang there is an answer."""
    command = [sys.executable, "-m", "nimbleload.probe.scan", str(path)]
    try:
        done = subprocess.run(command, capture_output=True, timeout=SECONDS, check=False)
    except subprocess.TimeoutExpired:
        return Scanned(str(path), modified, failure=f"did not answer within {SECONDS:.0f} seconds")
    if done.returncode != 0:
        said = done.stderr.decode(errors="replace").strip().splitlines()
        reason = f"crashed (signal {-done.returncode})" if done.returncode < 0 else (said[-1] if said else "failed")
        return Scanned(str(path), modified, failure=reason)
    try:
        plugins = msgspec.json.decode(done.stdout.splitlines()[-1], type=tuple[Installed, ...])
    except (IndexError, msgspec.MsgspecError):
        return Scanned(str(path), modified, failure="its description could not be understood")
    return Scanned(str(path), modified, plugins)


def paths_by_identifier(scanned: Iterable[Scanned]) -> dict[tuple[str, str], Installed]:
    """The installed plugin for each (standard, identifier); the first file found wins."""
    found: dict[tuple[str, str], Installed] = {}
    for file in scanned:
        for plugin in file.plugins:
            found.setdefault((plugin.standard, plugin.identifier), plugin)
    return found
