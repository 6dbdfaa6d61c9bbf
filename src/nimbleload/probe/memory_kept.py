"""What memory an instance keeps: its own, what all instances share, and whether that ever ends.

Samples are kept once for all instances that play them; memory that was asked for counts when it is touched, which with
a long delay is while it plays; files that are mapped are in memory once, however often; a bridge's plugin keeps what
it keeps in a process of its own. So the whole process is looked at before the first instance, with the first, and with
a second one, and that is played until it takes no more.
"""

from __future__ import annotations

import contextlib
import os
import re
import sys
import sysconfig
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from ..native.garbage import give_back
from .supervisor import below

PROC = Path("/proc")
# A stretch of memory in /proc/PID/smaps: its rights, its place in the file, device, file and its path, and what of it
# is there.
STRETCH = re.compile(
    rb"^[0-9a-f]+-[0-9a-f]+ (\S+) ([0-9a-f]+) (\S+) (\d+) *([^\n]*)\n.*?^Rss: +(\d+) kB.*?^Anonymous: +(\d+) kB",
    re.M | re.S,
)
# What this program itself runs on.
OURS = tuple(os.fsencode(each) for each in {sys.prefix, sys.base_prefix})
ALONE = re.compile(rb"^Private_(?:Clean|Dirty): +(\d+) kB", re.M)
HERE = re.compile(rb"^Rss(?:Anon|File|Shmem):\s+(\d+) kB", re.M)
OF_NO_FILE = b"0"
# Where libraries lie that belong to nobody alone.
SYSTEM = frozenset(
    os.fsencode(folder + inside)
    for folder in ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/usr/local/lib")
    for inside in ("", f"/{sysconfig.get_config_var('MULTIARCH') or 'x86_64-linux-gnu'}")
)
# Pages of the C library's own heaps come and go by no more than this between two looks (bytes).
STEADY = 256 << 10
# What the first instance brings beyond a second one is a pool from here on (bytes): less comes with the first use of a
# standard, and is nobody's.
LEAST_POOL = 4 << 20
# So much sound is played to see whether an instance takes more (seconds): each stretch twice as long as the last one.
STRETCHES = (1.0, 2.0, 4.0, 8.0, 16.0)
# What still grows is told as growing if it does so by about as much a second in the last two stretches.
ALIKE = 2.0


class Kept(NamedTuple):
    """Bytes in memory: of this process and what it has started alone (`own`), of the files that it has mapped, once
    each (`files`), and of those among them from which it runs code (`code`)."""

    own: int
    files: int
    code: int

    def since(self, before: Kept) -> Kept:
        """What has come since; never negative."""
        return Kept(*(max(now - was, 0) for now, was in zip(self, before, strict=True)))

    @property
    def whole(self) -> int:
        return self.own + self.files + self.code


NOTHING = Kept(0, 0, 0)


class Instances(NamedTuple):
    """Bytes that an instance keeps (`each`), that all instances of a setting keep together beside that (`pool`), and
    all of the plugin (`code`); and what one takes more for each second that it sounds, without an end (`grows`; 0: it
    does not)."""

    each: int
    pool: int
    code: int
    grows: float


def kept() -> Kept:
    """As of now; what the system does not say counts as nothing. What lies free in the C library's heaps goes back to
    the system first: what is made next would take it from there. The system's own libraries do not count: all plugins
    and their host have them together; nor do those of this program."""
    give_back()
    found: dict[tuple[bytes, bytes, bytes], int] = {}
    runs: set[tuple[bytes, bytes]] = set()
    own = 0
    for rights, place, device, file, path, resident, anonymous in STRETCH.findall(_read(PROC / "self/smaps")):
        if os.path.dirname(path) in SYSTEM or path.startswith(OURS):  # noqa: PTH120 - a thousand times
            continue
        own += int(anonymous)
        if file == OF_NO_FILE:
            continue
        if b"x" in rights:
            runs.add((device, file))
        # Twice mapped, it is in memory once.
        of_file, here = max(int(resident) - int(anonymous), 0), (device, file, place)
        found[here] = max(found.get(here, 0), of_file)
    code = sum(size for (device, file, _), size in found.items() if (device, file) in runs)
    return Kept((own + _beside()) << 10, (sum(found.values()) - code) << 10, code << 10)


def _beside() -> int:
    """What processes that this one has started keep for themselves alone, in kB."""
    told = (_read(PROC / str(process) / "smaps_rollup") for process in below(os.getpid()))
    return sum(int(size) for each in told for size in ALONE.findall(each))


def _growing() -> int:
    """What there is to see of an instance that takes more, in bytes: quicker told than `kept`."""
    return (sum(map(int, HERE.findall(_read(PROC / "self/status")))) + _beside()) << 10


def _read(file: Path) -> bytes:
    with contextlib.suppress(OSError):
        return file.read_bytes()
    return b""


def find_instances(first: Kept, before: Kept, play: Callable[[float], None], seconds: float) -> Instances:
    """What instances keep, from what came with the `first` one and with another one that has been made since `before`.

    `play` plays that one for so many seconds of sound, or for part of that if it takes too long: until it takes no
    more, or about so many seconds are up.
    """
    begun_with = kept().since(before)
    grown, grows = _played(play, time.monotonic() + seconds)
    each = kept().since(before) if grown else begun_with
    pool = first.own + first.files - begun_with.own - begun_with.files
    code = max(first.code - begun_with.code, 0)
    return Instances(each.whole, pool if pool >= LEAST_POOL else 0, code, grows)


def _played(play: Callable[[float], None], until: float) -> tuple[bool, float]:
    """Whether an instance takes more memory while it plays, and how many bytes a second without an end."""
    size, rates = _growing(), []
    for stretch in STRETCHES:
        begun = time.monotonic()
        play(stretch)
        grown = _growing() - size
        size += grown
        rates.append(grown / stretch if grown > STEADY else 0.0)
        now = time.monotonic()
        if not rates[-1] or now + 2 * (now - begun) > until:
            break
    last = rates[-2:]
    is_without_end = len(last) == 2 and min(last) > 0 and max(last) < ALIKE * min(last)
    return any(rates), last[-1] if is_without_end else 0.0
