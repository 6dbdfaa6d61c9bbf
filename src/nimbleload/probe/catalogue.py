"""Which plugins are installed: every file is looked into by a process of its own, and what it holds is remembered."""

from __future__ import annotations

import contextlib
import logging
import os
import select
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec
import platformdirs

from ..core.cards.families import Kind, kind
from ..core.watching.records import ALL, inside
from ..machine.maps import Part
from ..native.decoding import decoded
from ..store import atomic
from .children import LINE_LIMIT, ended
from .formats.files import clap_files, ladspa_files, vst3_files
from .standards import ALL_LV2, INSIDE, NAME_FUNCTIONS

log = logging.getLogger(__name__)

# So long may a file take to be looked into, and the process that does it to start (seconds).
SECONDS, START_SECONDS = 20.0, 60.0


class Installed(msgspec.Struct, frozen=True):
    """One installed plugin, as its file describes it; `code` is the file of its code, where `path` names its bundle."""

    standard: str
    identifier: str
    name: str
    vendor: str
    version: str
    features: tuple[str, ...]
    path: str
    code: str = ""

    @property
    def known_by(self) -> set[str]:
        """The paths by which its file may be known where it runs: of its bundle, and of its code in it."""
        return {self.path.rstrip("/"), self.code or self.path.rstrip("/")}


class Place(msgspec.Struct, frozen=True):
    """Where a plugin's own code lies in a file that holds several: from and to (bytes), not overlapping, ascending."""

    identifier: str
    ranges: tuple[tuple[int, int], ...]


class Scanned(msgspec.Struct, frozen=True):
    """What one file held when it had this modification time (ns); `failure` says why nothing could be read. `places`
    is where the code of its plugins lies, if that was asked (see `places`)."""

    path: str
    modified: int
    plugins: tuple[Installed, ...] = ()
    failure: str | None = None
    places: tuple[Place, ...] = ()


class Begun(msgspec.Struct, frozen=True, tag="begun"):
    """That the scanning process opens a file."""

    path: str


class Answer(msgspec.Struct, frozen=True, tag="answer"):
    """What the scanning process says of one file."""

    path: str
    plugins: tuple[Installed, ...] = ()
    failure: str | None = None
    places: tuple[Place, ...] = ()


def cache_file() -> Path:
    """Where what was found is kept, whether it is there or not."""
    return Path(platformdirs.user_cache_dir("nimble-load")) / "installed.json"


def catalogue(files: Iterable[Path] | None = None, cache: Path | None = None, retry: bool = False) -> list[Scanned]:
    """What every plugin file holds; those that have not changed since the last time are not opened again.

    With `retry`, files that could not be read are.
    """
    cache = cache or cache_file()
    there = _changed(plugin_files() if files is None else files)
    if files is None:
        there[ALL_LV2] = newest_bundle()
    found = _looked_at(there, cache, retry)
    shared = {INSIDE + path: modified for path, modified in _changed(map(Path, _of_several(found))).items()}
    _looked_at(shared, inside_file(cache), False)
    return found


def _changed(files: Iterable[Path]) -> dict[str, int]:
    """When each of these files was changed (ns); a link that leads nowhere holds nothing."""
    there = {}
    for path in files:
        with contextlib.suppress(OSError):
            # Of a bundle its code, too: an update replaces that, and the bundle's own time may stay what it was. What
            # else lies in it may be thousands of files.
            code = (each for inside in ("Contents/*", "Contents/*/*.so") for each in path.glob(inside))
            there[str(path)] = max(each.stat().st_mtime_ns for each in (path, *code))
    return there


def _looked_at(there: dict[str, int], cache: Path, retry: bool) -> list[Scanned]:
    """What these files (with their modification times) hold, what is known of them from the cache."""
    known = _remembered(cache)
    fresh = {p: s for p, s in known.items() if there.get(p) == s.modified and not (retry and s.failure)}
    for scanned in scan({p: modified for p, modified in there.items() if p not in fresh}):
        fresh[scanned.path] = scanned
    found = [fresh[path] for path in there]
    if found != list(known.values()):
        try:
            cache.parent.mkdir(parents=True, exist_ok=True)
            atomic.write(cache, msgspec.json.encode(found))
        except OSError as error:
            # They are looked into again the next time.
            log.warning("what plugins are installed could not be kept in %s: %s", cache, error)
    return found


def inside_file(cache: Path) -> Path:
    """Where is kept, beside what was found, where the plugins of files that hold several lie in these."""
    return cache.with_name(f"{cache.stem}-inside{cache.suffix}")


def _of_several(scanned: Iterable[Scanned]) -> dict[str, list[Installed]]:
    """The files of code that hold several plugins, of the standards whose plugins name functions of their own."""
    found: dict[str, list[Installed]] = {}
    for file in scanned:
        for plugin in file.plugins:
            if plugin.standard in NAME_FUNCTIONS:
                found.setdefault(plugin.code or plugin.path, []).append(plugin)
    return {code: plugins for code, plugins in found.items() if len(plugins) > 1}


def parts() -> dict[str, list[Part]]:
    """Where the plugins of files that hold several lie in these, as far as it was found when they were looked into: by
    the file of their code, links followed."""
    known, held = _remembered(inside_file(cache_file())).values(), _of_several(remembered())
    found = {}
    for file in known:
        path = file.path.removeprefix(INSIDE)
        told = [Part(of.identifier, of.ranges) for of in file.places]
        all_told = [Part(ALL, ())] if len(told) == len(held.get(path, ())) else []
        if told:
            found[os.path.realpath(path)] = told + all_told
    return found


def plugin_files() -> list[Path]:
    """Every CLAP, VST3 and LADSPA file in the search paths."""
    return [*clap_files(), *ladspa_files(), *vst3_files()]


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
    changed = [0]
    for entry in there:
        with contextlib.suppress(OSError):
            changed.append(entry.stat().st_mtime_ns)
    return max(changed)


def remembered() -> list[Scanned]:
    """What every plugin file held when it was last looked into; nothing is looked into now."""
    return list(_remembered(cache_file()).values())


def names_by_file(scanned: Iterable[Scanned]) -> dict[str, str]:
    """What the plugin of each file or bundle is called. Several in one are called by their file, where nobody can tell
    whose code runs; and each by its own name, where it can be told (see `core.watching.records.inside`)."""
    scanned, found = list(scanned), dict[str, list[str]]()
    for plugin in (plugin for file in scanned for plugin in file.plugins):
        for path in plugin.known_by:
            found.setdefault(path, []).append(plugin.name)
    several = [plugin for plugins in _of_several(scanned).values() for plugin in plugins]
    return {
        path: names[0] if len(names) == 1 else f"{Path(path).stem} ({len(names)} plugins in one file)"
        for path, names in found.items()
    } | {inside(path, plugin.identifier): plugin.name for plugin in several for path in plugin.known_by}


def _remembered(cache: Path) -> dict[str, Scanned]:
    try:
        return {s.path: s for s in decoded(cache.read_bytes(), list[Scanned])}
    except (OSError, msgspec.MsgspecError):
        return {}  # a cache that cannot be read is made anew


def scan(files: dict[str, int]) -> Iterator[Scanned]:
    """Looks into files (with their modification times) in a process of its own.

    When a file makes it crash or hang, that is the answer for this file, and another process goes on with the rest.
    """
    left = dict(files)
    while left:
        reason = ""
        with tempfile.TemporaryDirectory(prefix="nimble-load-", ignore_cleanup_errors=True) as folder:
            for answer in _looked_into(list(left), folder):
                if isinstance(answer, str):
                    reason = answer
                elif answer.path in left:
                    yield Scanned(answer.path, left.pop(answer.path), answer.plugins, answer.failure, answer.places)
        if left:
            culprit = next(iter(left))
            yield Scanned(culprit, left.pop(culprit), failure=reason or "gave no answer")


def _looked_into(paths: list[str], folder: str) -> Iterator[Answer | str]:
    """Each file's answer, in order; in the end, if there is one missing, why."""
    mine, its = os.pipe()
    command = [sys.executable, "-m", "nimbleload.probe.supervisor", str(its), str(os.getpid()), folder, *paths]
    process = subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, pass_fds=(its,),
        start_new_session=True, env={**os.environ, "TMPDIR": folder},
    )  # fmt: skip
    os.close(its)
    try:
        yield from _answers(mine, process)
    finally:
        with contextlib.suppress(ProcessLookupError):
            process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(5)
        os.close(mine)


def _answers(channel: int, process: subprocess.Popen[bytes]) -> Iterator[Answer | str]:
    """What is told on the line, until it ends or a file takes too long; then why."""
    pending, until = b"", time.monotonic() + START_SECONDS
    while True:
        ready, _, _ = select.select([channel], [], [], max(until - time.monotonic(), 0.0))
        if not ready:
            yield f"did not answer within {SECONDS:.0f} seconds"
            return
        part = os.read(channel, 1 << 16)
        if not part:
            with contextlib.suppress(subprocess.TimeoutExpired):
                yield ended(process.wait(5))
            return
        *lines, pending = (pending + part).split(b"\n")
        for line in lines if len(pending) <= LINE_LIMIT else [b""]:
            try:
                said = decoded(line, Begun | Answer)
            except (msgspec.MsgspecError, UnicodeDecodeError):
                yield "wrote into the line on which answers are told"
                return
            until = time.monotonic() + SECONDS
            if isinstance(said, Answer):
                yield said


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
