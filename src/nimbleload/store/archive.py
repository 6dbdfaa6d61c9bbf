"""Reading a ZIP from a stranger: names, sizes and counts are checked first, and it is unpacked only to memory."""

from __future__ import annotations

import zipfile
import zlib
from pathlib import Path, PurePosixPath
from types import TracebackType

MOST_ENTRIES = 50_000
PACKED = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)
LARGEST_XML = 256 << 20
LARGEST_STATE = 64 << 20
MOST_STATES = 1 << 30


class ImportRefusedError(Exception):
    """Why a file from elsewhere is not taken: which file, where in it, and the reason."""


class Archive:
    """An open ZIP whose entries can be read into memory, each up to a limit. ImportRefusedError on anything odd."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._zip = zipfile.ZipFile(path)
        except (OSError, zipfile.BadZipFile, NotImplementedError, ValueError) as error:
            raise ImportRefusedError(f"{path.name} cannot be opened: {error}.") from error
        names = self._zip.namelist()
        if len(names) > MOST_ENTRIES:
            raise ImportRefusedError(f"{path.name} holds {len(names)} entries, more than any session needs.")
        for name in names:
            if leaves_folder(name):
                raise ImportRefusedError(f"{path.name} holds a path that leaves its folder: {name!r}.")
        odd = next((each for each in self._zip.infolist() if each.compress_type not in PACKED), None)
        if odd is not None:
            # Others are unpacked in one piece, whatever limit is asked for.
            raise ImportRefusedError(f"{path.name}: {odd.filename} is packed in a way that exchange files do not use.")
        self._names = set(names)
        self._left = MOST_STATES

    def __enter__(self) -> Archive:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._zip.close()

    def __contains__(self, name: str) -> bool:
        return name in self._names

    def head(self, name: str, most: int) -> bytes:
        """The first bytes of a member, at most so many; empty if it is not there or damaged."""
        try:
            with self._zip.open(name) as member:
                return member.read(most)
        except (KeyError, OSError, EOFError, RuntimeError, NotImplementedError, zipfile.BadZipFile, zlib.error):
            return b""

    def read(self, name: str, most: int) -> bytes:
        """The bytes of one entry. It must exist, and be no longer than `most`, whatever its header says."""
        if leaves_folder(name):
            raise ImportRefusedError(f"{self.path.name} refers to a path that leaves its folder: {name!r}.")
        if name not in self._names:
            raise ImportRefusedError(f"{self.path.name} does not hold {name!r}.")
        most = min(most, self._left)
        try:
            with self._zip.open(name) as entry:
                content = entry.read(most + 1)
        except (OSError, zipfile.BadZipFile, zlib.error, RuntimeError, NotImplementedError, EOFError) as error:
            raise ImportRefusedError(f"{self.path.name}: {name} cannot be unpacked: {error}.") from error
        if len(content) > most:
            raise ImportRefusedError(f"{self.path.name}: {name} is larger than {most >> 20} MB, so it was not read.")
        self._left -= len(content)
        return content


def leaves_folder(name: str) -> bool:
    """Whether a path inside an archive is absolute, or steps above it."""
    path = PurePosixPath(name.replace("\\", "/"))
    return path.is_absolute() or ".." in path.parts or (len(name) > 1 and name[1] == ":")
