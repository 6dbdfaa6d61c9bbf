"""Reading a ZIP from a stranger: names, sizes and counts are checked first, and names in it never name a file here."""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path, PurePosixPath
from types import TracebackType

from ..core.units import said_by

MOST_ENTRIES = 50_000
PACKED = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)
# Where the project lies in it.
WHERE = "project.xml"
LARGEST_XML = 256 << 20
LARGEST_STATE = 64 << 20
MOST_STATES = 1 << 30
PIECE = 1 << 20
# What comes of an entry that is damaged, beside an OSError.
DAMAGED = (zipfile.BadZipFile, zlib.error, RuntimeError, NotImplementedError, EOFError)


class ImportRefusedError(Exception):
    """Why a file from elsewhere is not taken: which file, where in it, and the reason."""


class Archive:
    """An open ZIP whose entries can be read, each up to a limit, and all that are read into memory together up to
    MOST_STATES. ImportRefusedError on anything odd."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._zip = zipfile.ZipFile(path)
        except (OSError, zipfile.BadZipFile, NotImplementedError, ValueError) as error:
            raise ImportRefusedError(f"{path.name} cannot be opened: {said_by(error)}.") from error
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
        self._names = {plain(name): name for name in names}
        self._left = MOST_STATES

    def __enter__(self) -> Archive:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._zip.close()

    def __contains__(self, name: str) -> bool:
        return plain(name) in self._names

    def stamp(self, name: str) -> str:
        """How long an entry is and its checksum, as its header has them. It must exist."""
        entry = self._zip.getinfo(self._names[plain(name)])
        return f"{entry.file_size} {entry.CRC:08x}"

    def head(self, name: str, most: int) -> bytes:
        """The first bytes of a member, at most so many; empty if it is not there or damaged."""
        try:
            with self._zip.open(self._names[plain(name)]) as member:
                return member.read(most)
        except (KeyError, OSError, *DAMAGED):
            return b""

    def read(self, name: str, most: int) -> bytes:
        """The bytes of one entry. It must exist, and be no longer than `most`, whatever its header says."""
        most = min(most, self._left)
        content = b"".join(self._pieces(name, most, most + 1))
        self._left -= len(content)
        return content

    def unpack(self, name: str, target: Path, most: int) -> None:
        """Writes one entry into a file, a piece at a time; as `read` otherwise. OSError if it cannot be written."""
        with target.open("wb") as out:
            for piece in self._pieces(name, most, PIECE):
                out.write(piece)

    def _pieces(self, name: str, most: int, size: int) -> Iterator[bytes]:
        """One entry in pieces of a size, at most so many bytes in all."""
        if leaves_folder(name):
            raise ImportRefusedError(f"{self.path.name} refers to a path that leaves its folder: {name!r}.")
        if name not in self:
            raise ImportRefusedError(f"{self.path.name} does not hold {name!r}.")
        found = 0
        try:
            with self._zip.open(self._names[plain(name)]) as entry:
                while piece := entry.read(size):
                    found += len(piece)
                    if found > most:
                        said = f"is larger than {most >> 20} MB, so it was not read"
                        raise ImportRefusedError(f"{self.path.name}: {name} {said}.")
                    yield piece
        except (OSError, *DAMAGED) as error:
            raise ImportRefusedError(f"{self.path.name}: {name} cannot be unpacked: {error}.") from error


def plain(name: str) -> str:
    """The name of an entry however it is written: some programs part folders as Windows does."""
    return name.replace("\\", "/").removeprefix("./")


def leaves_folder(name: str) -> bool:
    """Whether a path inside an archive is absolute, or steps above it."""
    path = PurePosixPath(name.replace("\\", "/"))
    return path.is_absolute() or ".." in path.parts or (len(name) > 1 and name[1] == ":")
