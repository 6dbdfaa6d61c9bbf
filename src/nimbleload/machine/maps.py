"""To whom the addresses of a process belong: which plugin's file, the host's own, or a library's."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..core.watching.records import HOST, LIBRARY
from .plugin_files import plugin_file
from .processes import PROC, mapped_file


class Maps:
    """The code that is mapped into one process: N ranges from `begin` to `end` (ascending) and their `owner`.

    Owners from 1 on count along `files`, a list of plugin files that several processes share.
    """

    def __init__(self, process: int, files: list[str], root: Path = PROC) -> None:
        self._path, self._own = root / str(process) / "maps", root / str(process) / "exe"
        self._files = files
        self.begin = self.end = np.zeros(0, np.uint64)
        self.owner: NDArray[np.int64] = np.zeros(0, np.int64)
        self.look_again()

    def look_again(self) -> bool:
        """Reads it anew; whether anything has changed."""
        try:
            text, program = self._path.read_text(errors="surrogateescape"), str(self._own.readlink())
        except OSError:
            return False
        found = []
        for line in text.splitlines():
            parts = line.split(maxsplit=2)
            if len(parts) > 1 and "x" in parts[1]:
                begin, _, end = parts[0].partition("-")
                found.append((int(begin, 16), int(end, 16), self._owner(mapped_file(line), program)))
        begins = np.array([each[0] for each in found], np.uint64)
        changed = not np.array_equal(begins, self.begin)
        self.begin, self.end = begins, np.array([each[1] for each in found], np.uint64)
        self.owner = np.array([each[2] for each in found], np.int64)
        return changed

    def _owner(self, path: str, program: str) -> int:
        known = plugin_file(path)
        if known:
            if known not in self._files:
                self._files.append(known)
            return self._files.index(known) + 1
        if path and path == program:
            return HOST
        return LIBRARY
