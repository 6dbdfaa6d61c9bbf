"""Which hosts run on this computer, with their threads and child processes, as /proc tells it of this user's own.

Everything is read below one root folder, so that the folders of a test can stand in. What vanishes while it is read is
left out.
"""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from .plugin_files import plugin_file

PROC = Path("/proc")
# Scheduling policies in real time, as /proc tells them (sched.h): FIFO, RR, DEADLINE.
REAL_TIME = (1, 2, 6)
# States of what has ended and is only still listed.
ENDED = ("Z", "X", "x")
# Where shared memory is mapped from; and the names of what those share that serve all programs.
SHARED, MEMORY_FILE = "/dev/shm/", "/memfd:"
SERVERS = re.compile(r"jack|pipewire|pulse|wine", re.I)
TICKS = os.sysconf("SC_CLK_TCK")
# Programs that are known by what they run.
INTERPRETER = re.compile(r"(python|perl|ruby)[\d.]*|bash|dash|sh")


class Thread(NamedTuple):
    """One thread of a process. `priority` is that in real time, 0 without; `cpu` the CPU time so far (seconds)."""

    process: int
    number: int
    name: str
    is_real_time: bool
    priority: int
    cpu: float
    waited: float


class Process(NamedTuple):
    """One process: `plugins` are the plugin files that are mapped into it, `parent` its parent's number."""

    number: int
    name: str
    parent: int
    plugins: tuple[str, ...]
    real_time_threads: int
    cpu: float


def processes(root: Path = PROC) -> Iterator[Process]:
    """All processes of this user, but for this program's own family."""
    ours = _family(os.getpid(), root)
    for number in sorted(_numbers(root) - ours):
        with contextlib.suppress(OSError, ValueError, IndexError):
            yield process(number, root)


def process(number: int, root: Path = PROC) -> Process:
    """One process. OSError if it is another user's, or has ended."""
    folder = root / str(number)
    if folder.stat().st_uid != os.getuid():
        raise PermissionError(f"process {number} is another user's")
    name, fields = stat(folder / "stat")
    found = threads(number, root)
    mapped = {file for line in _lines(folder / "maps") if (file := plugin_file(mapped_file(line)))}
    return Process(
        number, program(number, root) or name, int(fields[1]), tuple(sorted(mapped)),
        sum(thread.is_real_time for thread in found), cpu_seconds(fields),
    )  # fmt: skip


def program(number: int, root: Path = PROC) -> str:
    """The name of a process as its user knows it: that of its file, or of what an interpreter runs in it."""
    with contextlib.suppress(OSError):
        words = (root / str(number) / "cmdline").read_bytes().decode(errors="replace").split("\0")
        first = Path(words[0].replace("\\", "/")).name
        return _script(words[1:]) or first if INTERPRETER.fullmatch(first) else first
    return ""


def _script(words: list[str]) -> str:
    """What an interpreter runs, by the words of its command line: a file, or a module; nothing if that is code."""
    for place, word in enumerate(words):
        if word == "-m":
            return words[place + 1] if place + 1 < len(words) else ""
        if word == "-c":
            return ""
        if word and not word.startswith("-"):
            return Path(word).name
    return ""


def thread_numbers(number: int, root: Path = PROC) -> list[int]:
    """The numbers of the threads of a process, in the order in which they were made. Empty if it has ended."""
    try:
        return sorted(map(int, os.listdir(root / str(number) / "task")))  # noqa: PTH208 (asked for often)
    except OSError:
        return []


def thread(process: int, number: int, root: Path = PROC) -> Thread | None:
    """One thread. None if it has ended."""
    folder = root / str(process) / "task" / str(number)
    try:
        name, fields = stat(folder / "stat")
        spent = (folder / "schedstat").read_text().split()
        policy, priority = int(fields[38]), int(fields[37])
        if fields[0] in ENDED:
            return None
        return Thread(
            process, number, name, policy in REAL_TIME, priority, int(spent[0]) / 1e9, int(spent[1]) / 1e9
        )  # fmt: skip
    except (OSError, ValueError, IndexError):
        return None


def threads(number: int, root: Path = PROC) -> list[Thread]:
    """The threads of a process, in the order in which they were made. Empty if it has ended."""
    found = (thread(number, each, root) for each in thread_numbers(number, root))
    return [each for each in found if each is not None]


def hosts(root: Path = PROC) -> list[Process]:
    """Processes that look like hosts: those with plugins in them, or with threads in real time; the busiest first.

    The kernel's own threads are listed as processes without a command.
    """
    found = [
        each for each in processes(root) if each.plugins or (each.real_time_threads and program(each.number, root))
    ]
    return sorted(found, key=lambda each: (not each.plugins, -each.cpu, each.number))


def descendants(numbers: Sequence[int], root: Path = PROC) -> list[int]:
    """Processes and all below them, as bridges run plugins in processes of their own."""
    parents: dict[int, int] = {}
    for number in _numbers(root):
        with contextlib.suppress(OSError, ValueError, IndexError):
            parents[number] = int(stat(root / str(number) / "stat")[1][1])
    return below(numbers, parents)


def below(numbers: Sequence[int], parents: Mapping[int, int]) -> list[int]:
    """Processes and all below them, by which each one was started by (its parent)."""
    children: dict[int, list[int]] = {}
    for number, parent in parents.items():
        children.setdefault(parent, []).append(number)
    found = list(numbers)
    for each in found:
        found.extend(child for child in children.get(each, ()) if child not in found)
    return found


def bridges(numbers: Sequence[int], root: Path = PROC) -> list[int]:
    """Processes of this user, none of these, that have plugins and share memory with one of these: bridges that were
    not started by their host. What clients of a sound server share with it binds them to no other one."""
    ours, found = set[tuple[str, ...]]().union(*(_shared(number, root) for number in numbers)), list[int]()
    if not ours:
        return []
    beside = _family(os.getpid(), root)
    for number in _numbers(root) - beside - set(numbers):
        with contextlib.suppress(OSError):
            is_own = (root / str(number)).stat().st_uid == os.getuid()
            if is_own and ours & _shared(number, root) and process(number, root).plugins:
                found.append(number)
    return sorted(found)


def _numbers(root: Path) -> set[int]:
    """The numbers of all processes."""
    return {int(folder.name) for folder in root.iterdir() if folder.name.isdigit()}


def _shared(number: int, root: Path) -> set[tuple[str, ...]]:
    """The shared memory that a process has mapped: its device and number, each."""
    found = set()
    for line in _lines(root / str(number) / "maps"):
        if SHARED in line or MEMORY_FILE in line:
            words = line.split(maxsplit=5)
            if "s" in words[1] and not SERVERS.search(words[5]):
                found.add(tuple(words[3:5]))
    return found


def _family(number: int, root: Path) -> set[int]:
    """A process and those above it, up to the first that is no longer ours to tell apart from a session."""
    found = {number}
    with contextlib.suppress(OSError, ValueError, IndexError):
        found.add(int(stat(root / str(number) / "stat")[1][1]))
    return found


def cpu_seconds(fields: Sequence[str]) -> float:
    """The CPU time in the fields of a stat file (seconds)."""
    return (int(fields[11]) + int(fields[12])) / TICKS


def stat(path: Path) -> tuple[str, list[str]]:
    """The name in a stat file, and the fields behind it (the first is the state)."""
    text = path.read_text(errors="replace")
    return text[text.index("(") + 1 : text.rindex(")")], text[text.rindex(")") + 2 :].split()


def _lines(path: Path) -> list[str]:
    try:
        return path.read_text(errors="surrogateescape").splitlines()
    except OSError:
        return []


def mapped_file(line: str) -> str:
    """The path at the end of a line of a maps file; empty without one."""
    parts = line.split(maxsplit=5)
    return parts[5] if len(parts) > 5 else ""
