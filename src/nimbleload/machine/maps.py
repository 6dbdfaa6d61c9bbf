"""To whom the addresses of a process belong: which plugin's file, the host's own, or a library's."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..core.watching.records import HOST, LIBRARY, inside
from .pause_loops import PauseLoops
from .plugin_files import plugin_file
from .processes import PROC, mapped_file

WINDOWS_PROGRAM = ".exe"
WINDOWS = (WINDOWS_PROGRAM, ".dll", ".vst3", ".clap")


class Part(NamedTuple):
    """A plugin of a file that holds several: its identifier, and where its own code lies in the file (from and to,
    bytes, ascending). One with the identifier `ALL`, and no code, says that all of them are known."""

    identifier: str
    ranges: tuple[tuple[int, int], ...]


# By the file of their code, as it is mapped.
Parts = Mapping[str, Sequence[Part]]
NO_PARTS: Parts = {}


class Maps:
    """The code that is mapped into one process: N ranges from `begin` to `end` (ascending) and their `owner`.

    Owners from 1 on count along `files`, a list of plugin files that several processes share; of files that hold
    several plugins whose `parts` are known, these are owners of their own: `whole` (by owner) is the file that they are
    part of, the file itself for such a file, and 0 for all others.
    """

    def __init__(self, process: int, files: list[str], root: Path = PROC, parts: Parts = NO_PARTS) -> None:
        self._path, self._own = root / str(process) / "maps", root / str(process) / "exe"
        self._files, self._parts, self._root = files, parts, root / str(process) / "root"
        self._lie_in, self._loops = list[tuple[str, int]](), PauseLoops()
        self.begin = self.end = np.zeros(0, np.uint64)
        self.owner: NDArray[np.int64] = np.zeros(0, np.int64)
        self.whole: NDArray[np.int64] = np.zeros(1, np.int64)
        self.look_again()

    def tell_apart(self, parts: Parts) -> None:
        """Reads it anew with other parts."""
        self._parts = parts
        self.look_again()

    def look_again(self) -> bool:
        """Reads it anew; whether anything has changed."""
        try:
            text, program = self._path.read_text(errors="surrogateescape"), str(self._own.readlink())
        except OSError:
            return False
        found, wholes = list[tuple[int, int, int]](), dict[int, int]()
        lie_in, before, image = list[tuple[str, int]](), 0, ""
        for line in text.splitlines():
            words = line.split(maxsplit=3)
            if len(words) < 3:
                continue
            begin, end = (int(each, 16) for each in words[0].split("-"))
            path = mapped_file(line)
            # Windows' programs and plugins do not lie in their files as they lie in memory, but for their first page:
            # the rest is memory of no file, right behind it.
            is_mapped, path = bool(path), path or (image if begin == before else "")
            before, image = end, path if path.lower().endswith(WINDOWS) else ""
            if "x" in words[1]:
                owner, lie = self._owner(path, program), list[tuple[int, int, int]]()
                for part in self._parts.get(path, ()) if owner > 0 else ():
                    number = self._number(inside(self._files[owner - 1], part.identifier))
                    wholes[owner] = wholes[number] = owner
                    lie += [(first, last, number) for first, last in part.ranges]
                offset, known = int(words[2], 16), len(found)
                found += _divided(begin, end, owner, offset, sorted(lie))
                lie_in += [(path if is_mapped else "", begin - offset)] * (len(found) - known)
        begins = np.array([each[0] for each in found], np.uint64)
        changed = not np.array_equal(begins, self.begin)
        if lie_in != self._lie_in:
            self._lie_in, self._loops = lie_in, PauseLoops()
        self.begin, self.end = begins, np.array([each[1] for each in found], np.uint64)
        self.owner = np.array([each[2] for each in found], np.int64)
        self.whole = np.zeros(len(self._files) + 1, np.int64)
        self.whole[list(wholes)] = list(wholes.values())
        return changed

    def only_waits(self, addresses: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which addresses (N) lie in code that only waits (see `pause_loops`)."""
        return self._loops.waits(addresses.astype(np.uint64), self._lies)

    def _lies(self, address: int) -> tuple[Path, int] | None:
        """In which file the code at an address is, and at which byte."""
        place = int(np.searchsorted(self.begin, np.uint64(address), "right")) - 1
        # A page may begin before the first code in it that is somebody's own.
        place += place < 0 or address >= int(self.end[place])
        path, begun = self._lie_in[place] if place < len(self._lie_in) else ("", 0)
        return (self._root / path[1:], address - begun) if path.startswith("/") and address >= begun else None

    def _owner(self, path: str, program: str) -> int:
        known = plugin_file(path)
        if known:
            return self._number(known)
        if path and (path == program or path.lower().endswith(WINDOWS_PROGRAM)):
            return HOST
        return LIBRARY

    def _number(self, file: str) -> int:
        if file not in self._files:
            self._files.append(file)
        return self._files.index(file) + 1


def _divided(
    begin: int, end: int, owner: int, offset: int, parts: Sequence[tuple[int, int, int]]
) -> Iterator[tuple[int, int, int]]:
    """A range of addresses that a file is mapped into from an offset on, divided among the parts of the file (from, to,
    owner; ascending); what lies between them stays the owner's."""
    at = begin
    for first, last, own in parts:
        first, last = (min(max(begin + each - offset, at), end) for each in (first, last))
        if first < last:
            if at < first:
                yield at, first, owner
            yield first, last, own
            at = last
    if at < end:
        yield at, end, owner
