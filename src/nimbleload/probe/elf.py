"""Which functions a file of code holds: where each begins and ends in the file, and its name, if that is told.

Read from the file's own tables, nothing of it runs: its symbols, and the table by which errors find their way back,
which knows of every function, and stays in files whose symbols were taken out. Source: the ELF-64 object file format,
version 1.5; the Linux Standard Base on `.eh_frame_hdr`.
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

LOADED, WAYS_BACK, RUNS, PAGE = 1, 0x6474E550, 1, 4096
SYMBOLS, SYMBOLS_TO_LINK, FUNCTION = 2, 11, 2
# A table of pairs of four bytes, relative to its own place: what all linkers make.
PAIRS = (0x1B, 0x03, 0x3B)
SEGMENT = np.dtype([("kind", "<u4"), ("flags", "<u4"), ("offset", "<u8"), ("address", "<u8"), ("physical", "<u8"),
                    ("size", "<u8"), ("in_memory", "<u8"), ("aligned", "<u8")])  # fmt: skip
SECTION = np.dtype([("name", "<u4"), ("kind", "<u4"), ("flags", "<u8"), ("address", "<u8"), ("offset", "<u8"),
                    ("size", "<u8"), ("link", "<u4"), ("more", "<u4"), ("aligned", "<u8"),
                    ("entry", "<u8")])  # fmt: skip
SYMBOL = np.dtype([("name", "<u4"), ("kind", "u1"), ("other", "u1"), ("section", "<u2"), ("address", "<u8"),
                   ("size", "<u8")])  # fmt: skip


class ElfError(Exception):
    """Why a file cannot be read as one of code, in a sentence."""


class Functions(NamedTuple):
    """F functions by their addresses (ascending, as if the file were loaded at its first one), by where they begin and
    end in the file (bytes; each ends where the next one begins), and their names as the linker knows them (empty where
    none is told)."""

    address: NDArray[np.int64]
    begin: NDArray[np.int64]
    end: NDArray[np.int64]
    names: list[str]


def functions(path: Path) -> Functions:
    """All functions of a file. ElfError if it is none of 64 bit, or its tables lead nowhere; OSError."""
    content = path.read_bytes()
    if content[:6] != b"\x7fELF\x02\x01" or len(content) < 64:
        raise ElfError(f"{path} is no file of code for 64 bit.")
    try:
        return _read(content)
    except (ValueError, OverflowError, struct.error, IndexError) as error:
        raise ElfError(f"{path} is damaged: its tables lead nowhere ({error}).") from error


def _read(content: bytes) -> Functions:
    segments = _table(content, 0x20, 0x36, 0x38, SEGMENT)
    loaded = segments[segments["kind"] == LOADED]
    named = _named(content, _table(content, 0x28, 0x3A, 0x3C, SECTION))
    addresses = np.union1d(np.array(list(named), np.int64), _ways_back(content, segments))
    found = np.zeros((0, 3), np.int64)
    for segment in np.sort(loaded[(loaded["flags"] & RUNS) > 0], order="address"):
        first, offset, size = (int(segment[each]) for each in ("address", "offset", "size"))
        inside = addresses[(addresses >= first) & (addresses < first + size)]
        begin = inside - first + offset
        end = np.append(begin[1:], offset + size)[: len(begin)]
        found = np.vstack((found, np.column_stack((inside, begin, end))))
    address, begin, end = found.T
    start = int(loaded["address"].min()) // PAGE * PAGE if len(loaded) else 0
    return Functions(address - start, begin, end, [named.get(each, "") for each in address.tolist()])


def _table(content: bytes, at: int, entry: int, count: int, kind: np.dtype) -> np.ndarray:
    """A table of the header: where it begins, how long its entries are and how many there are is told at places."""
    begin, (size,), (entries,) = (
        struct.unpack_from("<Q", content, at)[0], struct.unpack_from("<H", content, entry),
        struct.unpack_from("<H", content, count),
    )  # fmt: skip
    if entries and size != kind.itemsize:
        raise ValueError("entries of another size")
    return np.frombuffer(content, kind, entries, begin) if entries else np.zeros(0, kind)


def _named(content: bytes, sections: np.ndarray) -> dict[int, str]:
    """The names of functions by their addresses: from all symbols, or where those were taken out from those that other
    files may link to."""
    found: dict[int, str] = {}
    for kind in (SYMBOLS, SYMBOLS_TO_LINK):
        for section in sections[sections["kind"] == kind]:
            texts = sections[int(section["link"])]
            begin, end = int(texts["offset"]), int(texts["offset"] + texts["size"])
            count = int(section["size"]) // SYMBOL.itemsize
            symbols = np.frombuffer(content, SYMBOL, count, int(section["offset"]))
            those = symbols[((symbols["kind"] & 15) == FUNCTION) & (symbols["address"] > 0) & (symbols["section"] > 0)]
            for address, name in zip(those["address"].tolist(), those["name"].tolist(), strict=True):
                at = begin + name
                last = content.find(b"\0", at, end)
                found.setdefault(address, content[at : last if last >= 0 else end].decode("ascii", "replace"))
    return found


def _ways_back(content: bytes, segments: np.ndarray) -> NDArray[np.int64]:
    """The addresses at which functions begin, by the table of ways back; none where there is no such table."""
    for segment in segments[segments["kind"] == WAYS_BACK]:
        at, address = int(segment["offset"]), int(segment["address"])
        if tuple(content[at + 1 : at + 4]) != PAIRS:
            continue
        (count,) = struct.unpack_from("<I", content, at + 8)
        pairs = np.frombuffer(content, "<i4", 2 * count, at + 12).reshape(-1, 2)
        return np.asarray(pairs[:, 0].astype(np.int64) + address)
    return np.zeros(0, np.int64)
